"""Measurements of what waits: a million deliveries for moments over a week, many due at once, and
two workers together."""

import datetime as dt
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.db import ensure_months
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.bench.sending import HOURS, bare_copy, forget, resident, worker_environment
from meadowrun.messages.models import Edition
from meadowrun.outgoing.claims import BATCH, Claim
from meadowrun.outgoing.jobs import ask_for
from meadowrun.outgoing.models import Dispatch

#: So many deliveries wait, and so many are due at once.
WAITING, AT_ONCE = 1_000_000, 200_000
#: People of the two sends that show what a second worker is worth.
TOGETHER = 40_000

#: Deliveries to everybody again and again until there are so many, each due at its own moment
#: within a week.
PUT = """
INSERT INTO deliveries (contact_id, dispatch_id, occurrence, taken_at, due, outcome)
SELECT c.id, :dispatch, n, :taken, :taken + make_interval(secs => mod(c.id * 7919 + n * 104729,
604800)), 'waiting'
FROM generate_series(0, :rounds) n CROSS JOIN contacts c ORDER BY 5 LIMIT :most
"""


def _opened(session: orm.Session, taken: dt.datetime) -> Dispatch:
    """A running dispatch without an end, as a step of a journey has: people come one by one, and
    some come again."""
    edition = session.scalars(sa.select(Edition).limit(1)).one()
    made = Dispatch(
        owner_kind="send",
        owner_id=0,
        name="bench",
        channel="email",
        message_id=edition.message_id,
        edition_id=edition.id,
        sender_id=1,
        consent_rule="agreed",
        hours=HOURS,
        taken_at=taken,
        state="running",
        unsettled=True,
    )
    ensure_months(session, taken.date(), taken.date())
    session.add(made)
    session.flush()
    return made


def _put(session: orm.Session, dispatch: Dispatch, most: int) -> None:
    people = session.execute(sa.text("SELECT count(*) FROM contacts")).scalar_one()
    session.execute(
        sa.text(PUT),
        {
            "dispatch": dispatch.id,
            "taken": dispatch.taken_at,
            "rounds": most // people,
            "most": most,
        },
    )
    session.execute(sa.text("ANALYZE deliveries"))


def waiting(world: World) -> Iterator[Measurement]:
    """A look at what is due while a million wait, and claiming the next thousand of them; then many
    due at once."""
    with world.database.session() as session:
        start = clock.now(session).replace(microsecond=0)
        made = _opened(session, start)
        _put(session, made, WAITING)
        ident = made.id
    try:
        with clock.at(start - dt.timedelta(seconds=1)):
            looks = world.median(lambda: jobs.run_here("outgoing.sweep"), 15)
        yield compare("a look while 1,000,000 wait ÷ 20 ms", 1000 * looks, 20.0, "ms", at_most=1.0)
        claims = statistics.median(_claims(world, ident, start, 15))
        yield compare("claiming the next 1,000 due ÷ 50 ms", 1000 * claims, 50.0, "ms", at_most=1.0)
    finally:
        with world.database.session() as session:
            forget(session, ident)
    yield from _at_once(world, start)
    yield from _together(world)


def _claims(world: World, ident: int, start: dt.datetime, times: int) -> list[float]:
    """Seconds of claiming a thousand people each, in the middle of the week."""
    taken = []
    for place in range(times):
        now = start + dt.timedelta(days=1 + place / 4)
        with Claim.begin_new(world.database, ident, "deliver") as claim:
            claim.key["taken"] = start
            began = time.perf_counter()
            with claim.session() as session:
                found = claim.take(session, now, whole=False)
            taken.append(time.perf_counter() - began)
            if len(found) < 0.9 * BATCH:
                raise RuntimeError(f"only {len(found)} could be claimed")
    return taken


def _at_once(world: World, start: dt.datetime) -> Iterator[Measurement]:
    """Many due at the same moment, handed over by this process, beside COPY; and whether its memory
    grows."""
    with world.database.session() as session:
        made = _opened(session, start)
        _put(session, made, AT_ONCE)
        session.execute(
            sa.text("UPDATE deliveries SET due = taken_at WHERE dispatch_id = :d"), {"d": made.id}
        )
        session.execute(sa.text("ANALYZE deliveries"))
        ident = made.id
    took, memory = [], []
    for _ in range(AT_ONCE // BATCH):
        began = time.perf_counter()
        jobs.run_here("outgoing.deliver")
        took.append(time.perf_counter() - began)
        memory.append(resident(os.getpid()))
    with world.database.session() as session:
        left = session.execute(
            sa.text(
                "SELECT count(*) FROM deliveries WHERE dispatch_id = :d AND outcome = 'waiting'"
            ),
            {"d": ident},
        ).scalar_one()
        bare = bare_copy(session, ident, 20)
        forget(session, ident)
    if left > AT_ONCE * 0.02:
        raise RuntimeError(f"{left} of {AT_ONCE} were not handed over")
    yield compare(
        "200,000 due at once ÷ bare COPY",
        BATCH / statistics.median(took),
        BATCH / bare,
        "rows/s",
        at_least=0.10,
    )
    half = len(memory) // 2
    yield compare("memory after all of them ÷ halfway", memory[-1], memory[half], "MB", at_most=1.1)


def _together(world: World) -> Iterator[Measurement]:
    """One worker, and two side by side: how much faster the two are."""
    one, two = (_rate(world, workers) for workers in (1, 2))
    yield compare("two workers together ÷ one", two, one, "rows/s", at_least=1.4)


def _rate(world: World, workers: int) -> float:
    """Deliveries a second by some workers."""
    ident = due_at_once(world, TOGETHER)
    running = [
        subprocess.Popen([sys.executable, "-m", "meadowrun", "work"], env=worker_environment(world))
        for _ in range(workers)
    ]
    try:
        # So that nobody's start is measured.
        time.sleep(4)
        with world.database.session() as session:
            first = gone(session, ident)
            ask_for(session, 2 * workers)
        began, done = time.monotonic(), first
        while done - first < 0.7 * (TOGETHER - first) and time.monotonic() - began < 120:
            time.sleep(0.2)
            with world.database.session() as session:
                done = gone(session, ident)
        return (done - first) / (time.monotonic() - began)
    finally:
        for worker in running:
            worker.terminate()
            worker.wait()
        with world.database.session() as session:
            forget(session, ident)


def due_at_once(world: World, most: int) -> int:
    """So many deliveries that are all due, of which no worker has been told yet: the number of
    their dispatch."""
    with world.database.session() as session:
        made = _opened(session, clock.now(session).replace(microsecond=0))
        _put(session, made, most)
        session.execute(
            sa.text("UPDATE deliveries SET due = taken_at WHERE dispatch_id = :d"), {"d": made.id}
        )
        session.execute(
            sa.text("DELETE FROM procrastinate_jobs WHERE task_name = 'outgoing.deliver'")
        )
        return made.id


def gone(session: orm.Session, ident: int) -> int:
    """How many of a dispatch were handed over, or not sent."""
    found: int = session.execute(
        sa.text(
            "SELECT count(*) FROM deliveries WHERE dispatch_id = :d AND outcome NOT IN "
            "('waiting', 'in_hand')"
        ),
        {"d": ident},
    ).scalar_one()
    return found
