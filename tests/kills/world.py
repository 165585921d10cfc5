"""A whole installation to kill parts of: a database of its own, workers, a web server and a mail
server, each a process."""

import contextlib
import dataclasses
import os
import pathlib
import random
import secrets
import shutil
import signal
import subprocess
import sys
import time
import urllib.request

import sqlalchemy as sa

from meadowrun.base import signing
from meadowrun.base.clock import machine_now
from meadowrun.base.cluster import Cluster, free_port
from meadowrun.base.db import Database
from meadowrun.base.schema import migrate
from meadowrun.base.testing import memory_folder
from meadowrun.core.guardrails.caps import Cap
from meadowrun.features import load_tasks
from meadowrun.outgoing import caps
from meadowrun.outgoing.queries import tally
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import settings_for
from tests.kills.mailserver import LATEST
from tests.store.people import IDA, many, ready_send
from tests.store.sending import segment

ROOT = pathlib.Path(__file__).resolve().parents[2]
WORKERS = 2
#: Seconds after which “not taken” is believed here: longer than the mail server ever takes.
SETTLE_AFTER = int(LATEST) + 3
END_LOCKS = """
SELECT count(pg_terminate_backend(pid)) FROM (SELECT DISTINCT pid FROM pg_locks
WHERE locktype = 'advisory' AND granted
    AND database = (SELECT oid FROM pg_database WHERE datname = current_database())) p
"""


@dataclasses.dataclass
class Counts:
    """What a run found."""

    kills: dict = dataclasses.field(default_factory=dict)
    checked: int = 0
    missed: int = 0
    twice: int = 0
    doubts: int = 0
    true_doubts: int = 0

    def add(self, other):
        for what, times in other.kills.items():
            self.kills[what] = self.kills.get(what, 0) + times
        for name in ("checked", "missed", "twice", "doubts", "true_doubts"):
            setattr(self, name, getattr(self, name) + getattr(other, name))

    def __str__(self):
        share = f"{100 * self.true_doubts / self.doubts:.0f} %" if self.doubts else "none"
        return (
            f"{sum(self.kills.values())} kills {dict(sorted(self.kills.items()))}, "
            f"{self.checked:,} deliveries checked, "
            f"{self.missed} missed, {self.twice} twice, {self.doubts} doubts, {self.true_doubts} "
            f"of them true ({share})"
        )


class World:
    """One scenario: a kind of mail server, with receipts or without."""

    def __init__(self, kind, receipts, seed):
        self.kind, self.receipts, self.dice = kind, receipts, random.Random(seed)
        # The identities of the emails are signed with it: what another run left behind is not taken
        # for this one's.
        self.secret = secrets.token_urlsafe(32)
        self.folder = memory_folder()
        self.record = self.folder / "record"
        self.record.touch()
        self.cluster = Cluster(self.folder / "cluster", ("jit=off", "shared_buffers=128MB"), 55500)
        self.processes = {}
        self.counts = Counts()
        self.smtp, self.http, self.web = free_port(25600), free_port(25700), free_port(25800)

    def __enter__(self):
        url = self.cluster.start()
        with (
            Database(f"{url}/postgres")
            .engine.connect()
            .execution_options(isolation_level="AUTOCOMMIT") as connection
        ):
            connection.execute(sa.text("CREATE DATABASE kills"))
        self.database = Database(f"{url}/kills")
        migrate(self.database)
        load_tasks(False)
        return self

    def __exit__(self, *_):
        for process in self.processes.values():
            process.kill()
            process.wait()
        self.database.close()
        self.cluster.remove()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _command(self, name):
        if name == "mail server":
            return [
                sys.executable,
                "-m",
                "tests.kills.mailserver",
                "--kind",
                self.kind,
                "--record",
                str(self.record),
                "--smtp",
                str(self.smtp),
                "--http",
                str(self.http),
                "--seed",
                str(self.dice.randrange(1 << 30)),
            ]
        if name == "web server":
            return [sys.executable, "-m", "meadowrun", "serve", "--port", str(self.web)]
        return [sys.executable, "-m", "meadowrun", "work"]

    def _environment(self):
        return {
            **os.environ,
            "PYTHONPATH": f"{ROOT / 'src'}:{ROOT}",
            "MEADOWRUN_DATABASE_URL": self.database.url,
            "MEADOWRUN_SECRET": self.secret,
            "MEADOWRUN_PUBLIC_URL": "http://127.0.0.1:1",
            "MEADOWRUN_MAIL_DOMAIN": "mail.example",
            "MEADOWRUN_SMTP_URL": f"smtp://127.0.0.1:{self.smtp}",
            "MEADOWRUN_LOG_LEVEL": "ERROR",
            "MEADOWRUN_SMTP_CONNECTIONS": "4",
            "MEADOWRUN_SETTLE_AFTER": str(SETTLE_AFTER),
            "MEADOWRUN_MAIL_RECEIPTS_URL": f"http://127.0.0.1:{self.http}/"
            if self.receipts
            else "",
        }

    def supervise(self):
        """Starts whatever does not run, as a supervisor does."""
        for name in ("mail server", "web server", *(f"worker {n}" for n in range(WORKERS))):
            if name not in self.processes or self.processes[name].poll() is not None:
                with (self.folder / "log").open("ab") as log:
                    self.processes[name] = subprocess.Popen(
                        self._command(name),
                        env=self._environment(),
                        stdout=log,
                        stderr=log,
                        start_new_session=True,
                        cwd=ROOT,
                    )

    def send(self, people, guarded=False):
        """A send to so many people; guarded: in portions, within hours on each person's own clock,
        under limits and once for each person."""
        settings, now = settings_for(self.database.url), machine_now()
        with self.database.session() as session:
            many(session, now, people)
            made = ready_send(session, now, {"in": [{"segment": segment(session).id}], "out": []})
            self.ident, self.people = made.id, people
            if guarded:
                made.portion_size, made.portion_gap = people // 6, 5
                # Closed for people of one zone at any moment, open for the others.
                made.hours = {"from": f"{now.hour:02}:00", "to": f"{(now.hour + 20) % 24:02}:00"}
                made.again_rule = "message"
                session.execute(
                    sa.text(
                        "UPDATE contacts SET timezone = (ARRAY['Europe/London', 'Asia/Tokyo', "
                        "'America/New_York', NULL])[1 + id % 4]"
                    )
                )
                caps.save(session, IDA, now, Cap(1, 1, "week", "email"))
                session.flush()
            actions.start(session, IDA, now, made, settings.public_url, people, made.version)

    def look(self):
        """The send's state and tally; whatever has just happened to anybody, the tally adds up."""
        with self.database.session() as session:
            send = session.get_one(Send, self.ident)
            if send.taken_at is None:
                return send.state, {}
            counts = tally(session, send.dispatch_id)
            assert sum(counts.values()) == send.audience_size == self.people
            if send.state == "done":
                assert not {"waiting", "in_hand", "deferred"} & counts.keys(), counts
            return send.state, counts

    def time_passes(self, seconds):
        """Moves the clock on, so that whoever delayed later is asked again."""
        with self.database.session() as session:
            session.execute(
                sa.text(
                    "INSERT INTO clock_offset (id, seconds) VALUES (1, :s) ON CONFLICT (id) DO "
                    "UPDATE SET seconds = clock_offset.seconds + :s"
                ),
                {"s": seconds},
            )

    def kill(self, what):
        """Kills one part without a warning. The database comes back by and by, the rest by its
        supervisor."""
        if what == "database":
            self.cluster.stop("immediate")
            self.database.close()
            time.sleep(self.dice.choice((0, 0, 1, 3)))
            self.cluster.start()
        elif what == "lock":
            with self.database.session() as session:
                if not session.execute(sa.text(END_LOCKS)).scalar_one():
                    return
        else:
            name = f"worker {self.dice.randrange(WORKERS)}" if what == "worker" else what
            process = self.processes[name]
            if process.poll() is not None:
                return
            os.kill(process.pid, signal.SIGKILL)
            process.wait()
        self.counts.kills[what] = self.counts.kills.get(what, 0) + 1

    def web_answers(self, seconds=20):
        """Whether the web server answers, once it is back where it was killed last."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.supervise()
            with contextlib.suppress(OSError):
                return (
                    urllib.request.urlopen(f"http://127.0.0.1:{self.web}/healthz", timeout=5).status
                    == 200
                )
            time.sleep(0.5)
        return False

    def reckon(self):
        """Compares what the database says with the mail server's own record: what became of each
        delivery, by its number."""
        with self.database.session() as session:
            rows = session.execute(
                sa.text("SELECT contact_id, outcome, number FROM deliveries")
            ).all()
        outcomes = {row.number: row.outcome for row in rows}

        def message_id(row):
            token = signing.make(self.secret, "message", row.number, row.contact_id)
            return f"<{token}@mail.example>"

        ids = {message_id(row): row.number for row in rows}
        reached, stored = set(), {}
        for line in self.record.read_text().splitlines():
            what, ident = line.split()
            if what == "reached":
                reached.add(ids[ident])
            else:
                stored[ids[ident]] = stored.get(ids[ident], 0) + 1
        doubts = {one for one, outcome in outcomes.items() if outcome == "in_doubt"}
        got = {one for one, outcome in outcomes.items() if outcome == "delivered"}
        self.counts.checked = len(outcomes)
        self.counts.twice = sum(times - 1 for times in stored.values())
        # Whom the page says it was delivered to without the server having it, and whom the server
        # has unsaid.
        self.counts.missed = len(got - stored.keys()) + len(stored.keys() - got - doubts)
        self.counts.doubts, self.counts.true_doubts = len(doubts), len(doubts & reached)
        return outcomes
