"""Measurements of the way a send takes: dispatch, hand-over by SMTP, and what a worker needs of
memory meanwhile."""

import os
import pathlib
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
import zoneinfo
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.db import driver
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.core import dkim
from meadowrun.demo.bulk import trusted
from meadowrun.gateways.email import Letter, mime
from meadowrun.gateways.smtp import SmtpGateway
from meadowrun.messages.models import Edition
from meadowrun.outgoing import caps
from meadowrun.outgoing.actions import open_dispatch, put, seal
from meadowrun.outgoing.caps import Wanted
from meadowrun.outgoing.claims import BATCH
from meadowrun.outgoing.models import Dispatch
from meadowrun.sends.models import Send

SRC = pathlib.Path(__file__).resolve().parents[2]
#: What is handed over is asked about limits and hours on the way, which keep nobody back: at most
#: so many of a channel (empty: of all) within a period, and all but one minute of the day.
LIMITS = (("email", "week", 20), ("email", "month", 60), ("", "month", 80))
HOURS = {"from": "00:00", "to": "23:59"}

_FIRST_OF_ALL = """
SELECT id, 'waiting' AS outcome, FALSE AS repeated, FALSE AS control
FROM contacts ORDER BY id LIMIT :n
"""


def _ready(session: orm.Session, size: int) -> int:
    """A running send to the first `size` contacts: the number of its dispatch."""
    now = clock.now(session)
    edition = session.scalars(sa.select(Edition).limit(1)).one()
    campaign = session.execute(sa.text("SELECT min(id) FROM campaigns")).scalar_one()
    send = Send(
        campaign_id=campaign,
        name="bench",
        state="running",
        message_id=edition.message_id,
        edition_id=edition.id,
        sender_id=1,
        audience={"in": [], "out": []},
        zone="UTC",
        created_at=now,
        changed_at=now,
    )
    session.add(send)
    session.flush()
    made = open_dispatch(
        session,
        now,
        Dispatch(
            owner_kind="send",
            owner_id=send.id,
            name=send.name,
            channel="email",
            message_id=edition.message_id,
            edition_id=edition.id,
            sender_id=1,
            campaign_id=campaign,
            consent_rule="agreed",
            hours=HOURS,
        ),
    )
    put(session, made, _FIRST_OF_ALL, {"n": size}, zoneinfo.ZoneInfo("Europe/London"))
    send.dispatch_id, send.taken_at = made.id, made.taken_at
    return made.id


def guard(session: orm.Session) -> None:
    """Sets the limits that everything is asked about."""
    wanted = [Wanted(channel, None, unit, 1, most) for channel, unit, most in LIMITS]
    caps.set_all(session, Actor(None, "bench", "admin"), clock.now(session), wanted)


def forget(session: orm.Session, ident: int) -> None:
    # What is sealed is not deleted otherwise.
    trusted(session)
    session.execute(sa.text("DELETE FROM deliveries WHERE dispatch_id = :d"), {"d": ident})
    session.execute(
        sa.text(
            "DELETE FROM send_numbers WHERE send_id IN (SELECT id FROM sends WHERE dispatch_id = "
            ":d)"
        ),
        {"d": ident},
    )
    session.execute(sa.text("DELETE FROM sends WHERE dispatch_id = :d"), {"d": ident})
    session.execute(sa.text("DELETE FROM dispatches WHERE id = :d"), {"d": ident})
    session.execute(sa.text("DELETE FROM procrastinate_jobs WHERE task_name = 'outgoing.deliver'"))


def forget_leftovers(world: World) -> None:
    """Takes away what a bench that was stopped in the middle has left: its deliveries would be
    handed over in place of those that are measured."""
    with world.database.session() as session:
        left = session.scalars(sa.text("SELECT id FROM dispatches WHERE name = 'bench'")).all()
        for ident in left:
            forget(session, ident)
    if left:
        with world.database.engine.connect() as connection:
            connection = connection.execution_options(isolation_level="AUTOCOMMIT")
            connection.execute(sa.text("VACUUM ANALYZE deliveries"))


#: The delivery rows that left after some contact, as they stand, deleted, and copied in again.
_COLUMNS = (
    "contact_id, dispatch_id, occurrence, taken_at, number, due, outcome, address, at, note, filled"
)
_ROWS = f"""SELECT {_COLUMNS.replace("filled", "filled::text")} FROM deliveries
WHERE dispatch_id = :d AND outcome <> 'waiting' AND contact_id > :after ORDER BY contact_id
LIMIT :most"""
_DELETED = (
    "DELETE FROM deliveries WHERE dispatch_id = :d AND outcome <> 'waiting' AND "
    "contact_id > :after AND contact_id <= :last"
)
_COPIED = f"COPY deliveries ({_COLUMNS}) FROM STDIN"


def bare_copy(session: orm.Session, ident: int, times: int) -> float:
    """Seconds that a bare COPY of BATCH delivery rows of a dispatch takes, as they stand, by the
    median of some."""
    taken, after = [], 0
    for _ in range(times):
        rows = session.execute(sa.text(_ROWS), {"d": ident, "after": after, "most": BATCH}).all()
        last = max(row.contact_id for row in rows)
        # Whole contacts, so that none is met again.
        rows = [row for row in rows if row.contact_id < last or len(rows) < BATCH]
        last = max(row.contact_id for row in rows)
        session.execute(sa.text(_DELETED), {"d": ident, "after": after, "last": last})
        after = last
        started = time.perf_counter()
        with driver(session).cursor() as cursor, cursor.copy(_COPIED) as copy:
            for row in rows:
                copy.write_row(tuple(row))
        taken.append((time.perf_counter() - started) * BATCH / len(rows))
    return statistics.median(taken)


def dispatch(world: World) -> Iterator[Measurement]:
    """Claim, verdict, render, hand-off to the null gateway and finish, beside bare COPY of the
    delivery rows.

    Batch by batch, and by the median, so that a machine that others use for a moment slows neither.
    """
    size = min(20_000, world.scale)
    with world.database.session() as session:
        ident = _ready(session, size)
    ours = []
    for _ in range(size // BATCH):
        started = time.perf_counter()
        jobs.run_here("outgoing.deliver")
        ours.append(time.perf_counter() - started)
    with world.database.session() as session:
        bare = bare_copy(session, ident, size // BATCH - 1)
        forget(session, ident)
    yield compare(
        "dispatch, one worker ÷ bare COPY",
        BATCH / statistics.median(ours),
        BATCH / bare,
        "rows/s",
        at_least=0.10,
    )


def _letters(count: int) -> list[Letter]:
    """Letters of usual length."""
    return [
        Letter(
            f"key{i}",
            i,
            "Farrow Hill",
            "desk@farrowhill.example",
            "",
            f"p{i}@post.example",
            f"bounce+{i}@mail.example",
            "Another year of stars",
            "<p>" + "Dear Ann, the dome opens at eight. " * 250 + "</p>",
            "Dear Ann\n" * 40,
            clock.machine_now().timestamp(),
            f"<key{i}@mail.example>",
            "http://127.0.0.1/u/1",
        )
        for i in range(count)
    ]


def sign(world: World) -> Iterator[Measurement]:
    """Signing whole letters with an RSA key beside the bare signatures of as many short texts."""
    letters = 600
    mails = [mime(letter) for letter in _letters(letters)]
    domain = "farrowhill.example"
    key = dkim.Key(domain, "bench", dkim.read(dkim.made("rsa")))
    signer = dkim.Signer({domain: [key]})

    def ours() -> None:
        for mail in mails:
            signer.signed(f"desk@{domain}", mail)

    def bare() -> None:
        for mail in mails:
            key.signed(mail[:300])

    rates = [letters / world.median(work, 5) for work in (ours, bare)]
    yield compare("signing ÷ bare RSA signatures", rates[0], rates[1], "mails/s", at_least=0.8)


def smtp(world: World) -> Iterator[Measurement]:
    """Letters by our gateway beside the same letters by a client in C (curl), both to a sink in a
    process of its own."""
    if shutil.which("curl") is None:
        print("  smtp is left out: there is no curl to compare with", file=sys.stderr)
        return
    letters = 3000
    made = _letters(letters)
    sink = subprocess.Popen(
        [sys.executable, "-m", "meadowrun.bench.sink"],
        stdout=subprocess.PIPE,
        text=True,
        env={**os.environ, "PYTHONPATH": str(SRC)},
    )
    assert sink.stdout is not None
    url = f"smtp://127.0.0.1:{int(sink.stdout.readline())}"
    with tempfile.TemporaryDirectory() as folder:
        mail, config = pathlib.Path(folder, "mail.eml"), pathlib.Path(folder, "curl.conf")
        mail.write_bytes(mime(made[0]))
        config.write_text(
            "next\n".join(
                (
                    f'url = "{url}"\nmail-from = "bounce+{i}@mail.example"\nmail-rcpt = '
                    f'"p{i}@post.example"\nupload-file = "{mail}"\nsilent\n'
                )
                for i in range(letters)
            )
        )

        def ours() -> None:
            assert all(h.outcome == "delivered" for h in SmtpGateway(url).hand_over(made))

        def theirs() -> None:
            subprocess.run(["curl", "--config", str(config)], check=True)

        try:
            rates = [letters / world.median(work, 3) for work in (ours, theirs)]
        finally:
            sink.kill()
            sink.wait()
    yield compare("SMTP hand-off ÷ a C client", rates[0], rates[1], "mails/s", at_least=1.0)


def worker_environment(world: World) -> dict[str, str]:
    """The environment of a real worker on a world."""
    return {
        **os.environ,
        "PYTHONPATH": str(SRC),
        "MEADOWRUN_DATABASE_URL": world.settings.database_url,
        "MEADOWRUN_SECRET": world.settings.secret,
        "MEADOWRUN_PUBLIC_URL": world.settings.public_url,
        "MEADOWRUN_SMTP_URL": world.settings.smtp_url,
        "MEADOWRUN_LOG_LEVEL": "WARNING",
    }


def memory(world: World) -> Iterator[Measurement]:
    """The resident memory of a real worker while it sends to everyone in the world, by the null
    gateway."""
    with world.database.session() as session:
        ident = _ready(session, world.scale)
        seal(session, session.get_one(Dispatch, ident), world.scale)
    # The settings it was opened with, null gateway and all.
    worker = subprocess.Popen(
        [sys.executable, "-m", "meadowrun", "work"], env=worker_environment(world)
    )
    seen: list[tuple[int, float]] = []
    try:
        while True:
            time.sleep(0.5)
            with world.database.session() as session:
                done = session.execute(
                    sa.text(
                        "SELECT count(*) FROM procrastinate_jobs WHERE status = 'succeeded' AND "
                        "task_name = 'outgoing.deliver'"
                    )
                ).scalar_one()
                state = session.execute(
                    sa.text("SELECT state FROM dispatches WHERE id = :d"), {"d": ident}
                ).scalar_one()
            if worker.poll() is not None:
                raise RuntimeError("the worker ended before the send was done")
            seen.append((done, resident(worker.pid)))
            if state == "done":
                break
    finally:
        worker.terminate()
        worker.wait()
        with world.database.session() as session:
            forget(session, ident)
    half = seen[len(seen) // 2 :]
    yield compare(
        "memory of a worker during a send ÷ 160 MB",
        max(mb for _, mb in seen),
        160.0,
        "MB",
        at_most=1.0,
    )
    yield compare("its memory at the end ÷ halfway", half[-1][1], half[0][1], "MB", at_most=1.1)


def resident(pid: int) -> float:
    """Resident memory of a process in MB, from /proc (proc(5): VmRSS in kB)."""
    text = pathlib.Path(f"/proc/{pid}/status").read_text()
    return (
        next(int(line.split()[1]) for line in text.splitlines() if line.startswith("VmRSS")) / 1024
    )
