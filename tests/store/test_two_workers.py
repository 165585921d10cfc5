"""A send to thousands of people on two real workers, one of which is killed in the middle."""

import os
import pathlib
import signal
import subprocess
import sys
import time

import pytest
import sqlalchemy as sa

from meadowrun.base.clock import machine_now
from meadowrun.bench.sink import Sink
from meadowrun.features import load_tasks
from meadowrun.outgoing.queries import tally
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import settings_for
from tests.luck import LONG
from tests.store.people import IDA, many, ready_send
from tests.store.sending import segment

SRC = pathlib.Path(__file__).resolve().parents[2] / "src"
PEOPLE = 20_000 if LONG else 8_000


@pytest.fixture
def sink():
    made = Sink()
    yield made
    made.close()


@pytest.fixture
def workers(database, sink):
    """Starts worker processes; all are ended afterwards."""
    environment = {
        **os.environ,
        "PYTHONPATH": str(SRC),
        "MEADOWRUN_DATABASE_URL": database.url,
        "MEADOWRUN_SECRET": "s" * 40,
        "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
        "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{sink.smtp}",
        "MEADOWRUN_MAIL_RECEIPTS_URL": f"http://127.0.0.1:{sink.http}",
        "MEADOWRUN_LOG_LEVEL": "WARNING",
    }
    started = []

    def start():
        started.append(
            subprocess.Popen(
                [sys.executable, "-m", "meadowrun", "work"], env=environment, start_new_session=True
            )
        )
        return started[-1]

    yield start
    for process in started:
        if process.poll() is None:
            process.kill()
        process.wait()


def test_nobody_is_missed_and_nobody_gets_it_twice(database, sink, workers):
    settings = settings_for(database.url)
    load_tasks(False)
    now = machine_now()
    with database.session() as session:
        many(session, now, PEOPLE)
        session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id % 100 = 0"))
        send = ready_send(session, now, {"in": [{"segment": segment(session).id}], "out": []})
        ident = send.id
        actions.start(
            session, IDA, now, send, settings.public_url, PEOPLE - PEOPLE // 100, send.version
        )
    doomed, _ = workers(), workers()
    looks, killed, deadline = 0, False, time.monotonic() + 400
    while time.monotonic() < deadline:
        with database.session() as session:
            send = session.get_one(Send, ident)
            if send.taken_at is not None:
                counts = tally(session, send.dispatch_id)
                # At every look the tally adds up, whatever has just happened to anybody.
                assert sum(counts.values()) == send.audience_size == PEOPLE
                looks += 1
                if not killed and counts.get("delivered", 0) > PEOPLE // 5:
                    os.kill(doomed.pid, signal.SIGKILL)
                    doomed.wait()
                    killed = True
                if send.state == "done":
                    break
        time.sleep(0.1)
    assert killed and looks > 10
    with database.session() as session:
        send = session.get_one(Send, ident)
        assert (send.state, tally(session, send.dispatch_id)) == (
            "done",
            {"delivered": PEOPLE - PEOPLE // 100, "no_consent": PEOPLE // 100},
        )
    assert len(sink.taken) == PEOPLE - PEOPLE // 100
    assert [m for m, times in sink.taken.items() if times > 1] == []
