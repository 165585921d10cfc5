"""What does not fit into the ordinary suite: a database that goes away in the middle."""

import os
import pathlib
import shutil
import subprocess
import sys
import time

import pytest
import sqlalchemy as sa

from meadowrun.base.clock import machine_now
from meadowrun.base.cluster import Cluster
from meadowrun.base.db import Database
from meadowrun.base.schema import migrate
from meadowrun.base.testing import memory_folder
from meadowrun.bench.sink import Sink
from meadowrun.outgoing.queries import tally
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import settings_for
from tests.store.people import IDA, many, ready_send
from tests.store.sending import segment

pytestmark = pytest.mark.long
SRC = pathlib.Path(__file__).resolve().parents[2] / "src"


def test_a_database_that_goes_away_in_the_middle_of_a_send():
    """Killed for eight seconds while a worker sends: afterwards everybody has it once and the tally
    adds up."""
    folder = memory_folder()
    # Nothing is lost in a kill when the log is written through, as in production.
    cluster = Cluster(folder / "cluster", ("jit=off", "shared_buffers=128MB"), 55400)
    sink, worker = Sink(), None
    try:
        url = cluster.start()
        with (
            Database(f"{url}/postgres")
            .engine.connect()
            .execution_options(isolation_level="AUTOCOMMIT") as connection
        ):
            connection.execute(sa.text("CREATE DATABASE away"))
        database = Database(f"{url}/away")
        migrate(database)
        now, people = machine_now(), 6000
        with database.session() as session:
            many(session, now, people)
            send = ready_send(session, now, {"in": [{"segment": segment(session).id}], "out": []})
            ident = send.id
            actions.start(
                session, IDA, now, send, settings_for(database.url).public_url, people, send.version
            )
        environment = {
            **os.environ,
            "PYTHONPATH": str(SRC),
            "MEADOWRUN_DATABASE_URL": database.url,
            "MEADOWRUN_SECRET": "s" * 40,
            "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
            "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{sink.smtp}",
            "MEADOWRUN_MAIL_RECEIPTS_URL": f"http://127.0.0.1:{sink.http}",
            "MEADOWRUN_LOG_LEVEL": "ERROR",
        }

        def work():
            return subprocess.Popen(
                [sys.executable, "-m", "meadowrun", "work"], env=environment, start_new_session=True
            )

        worker = work()
        deadline = time.monotonic() + 120
        while len(sink.taken) < 1500 and time.monotonic() < deadline:
            time.sleep(0.02)
        cluster.stop("immediate")
        database.close()
        time.sleep(8)
        cluster.start()
        state = None
        while state != "done" and time.monotonic() < deadline:
            if worker.poll() is not None:
                worker = work()  # as its supervisor does
            time.sleep(0.3)
            with database.session() as session:
                send = session.get_one(Send, ident)
                state, counts = send.state, tally(session, send.dispatch_id)
                assert sum(counts.values()) == people
        assert (state, counts) == ("done", {"delivered": people})
        assert len(sink.taken) == people and max(sink.taken.values()) == 1
    finally:
        if worker:
            worker.kill()
            worker.wait()
        sink.close()
        cluster.remove()
        shutil.rmtree(folder, ignore_errors=True)
