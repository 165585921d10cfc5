"""What does not fit into the ordinary suite: a database that goes away in the middle, for seconds
or minutes, or whose disk is full."""

import contextlib
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
from meadowrun.features import load_tasks
from meadowrun.outgoing.queries import tally
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import settings_for
from tests.store.people import IDA, many, ready_send
from tests.store.sending import segment

pytestmark = pytest.mark.long
SRC = pathlib.Path(__file__).resolve().parents[2] / "src"


@pytest.fixture
def disk():
    """A folder on a small disk of its own."""
    folder = memory_folder()
    mounted = (
        os.geteuid() == 0
        and not subprocess.run(
            ["mount", "-t", "tmpfs", "-o", "size=900m", "tmpfs", str(folder)], capture_output=True
        ).returncode
    )
    yield folder, mounted
    if mounted:
        subprocess.run(["umount", "-l", str(folder)], capture_output=True)
    shutil.rmtree(folder, ignore_errors=True)


def away(seconds):
    def trouble(cluster, folder):
        cluster.stop("immediate")
        time.sleep(seconds)
        cluster.start()

    return trouble


def full(cluster, folder):
    """Nothing more can be written for a while, not even the log of the database."""
    filler = folder / "filler"
    with contextlib.suppress(OSError), filler.open("wb", buffering=0) as file:
        while file.write(bytes(1 << 20)):
            pass
    with contextlib.suppress(OSError), filler.open("ab", buffering=0) as file:
        while file.write(b"0" * 512):
            pass
    assert shutil.disk_usage(folder).free < 1 << 16
    time.sleep(15)
    filler.unlink()
    # It ends by itself where it cannot even write its log; whoever runs it starts it again.
    if not cluster.running():
        cluster.stop("immediate")
        cluster.start()


@pytest.mark.parametrize(
    "trouble", [away(8), away(150), full], ids=["seconds_away", "minutes_away", "full_disk"]
)
def test_a_database_in_trouble_in_the_middle_of_a_send(disk, trouble):
    """Afterwards everybody has it once and the tally adds up at every look."""
    folder, mounted = disk
    if trouble is full and not mounted:
        pytest.skip("a small disk can be mounted by root only")
    # Nothing is lost in a kill when the log is written through, as in production.
    load_tasks(True)
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
        deadline = time.monotonic() + 60
        while len(sink.taken) < 1500 and time.monotonic() < deadline:
            time.sleep(0.02)
        trouble(cluster, folder)
        database.close()
        deadline = time.monotonic() + 180
        state, counts = None, {}
        while state != "done" and time.monotonic() < deadline:
            if worker.poll() is not None:
                worker = work()  # as its supervisor does
            time.sleep(0.3)
            with contextlib.suppress(sa.exc.OperationalError), database.session() as session:
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
        cluster.stop("immediate")
