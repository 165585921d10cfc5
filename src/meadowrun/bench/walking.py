"""Measurements of journeys: how fast people go on, beside an UPDATE of the same rows; and a look
while many wait, or are overdue on a paused one."""

import datetime as dt
import os
import time
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.audit import SYSTEM
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.bench.sending import resident
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys.edit import add
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import Itinerary, Path, Span, SplitStep, Start, WaitStep
from meadowrun.journeys import actions
from meadowrun.journeys.jobs import once
from meadowrun.journeys.models import Journey, JourneyEdition

#: So many journeys with everybody on each.
JOURNEYS = 5
#: Everybody on a journey, on its first step from a moment on.
_PUT = """
INSERT INTO journey_entries (journey_id, contact_id, began_at, step, arrived_at, phase, due)
SELECT :journey, c.id, :at, 's1', :at, 'due', :at FROM contacts c ORDER BY c.id LIMIT :most
"""
_MOVED = "SELECT count(*) FROM journey_moves m JOIN journey_entries e ON e.id = m.entry_id "
#: So many journeys with so many people on each, who wait, in a crowd; on half of them all are due
#: at once then.
CROWDED, EACH = 100, 10_000
_CROWD = """
INSERT INTO journey_entries (journey_id, contact_id, began_at, step, arrived_at, phase, due,
    subject)
SELECT :journey, c.id, :at, 's1', :at, 'waiting', :due, x::text
FROM contacts c CROSS JOIN generate_series(1, :rounds) x ORDER BY c.id, x LIMIT :most
"""
_DUE_AT_ONCE = """
UPDATE journey_entries SET due = arrived_at
WHERE journey_id = ANY(CAST(:journeys AS bigint[]))
"""
#: All journeys but one are paused, and everybody on those is overdue.
_PAUSED = """
WITH paused AS (
    UPDATE journeys SET state = 'paused'
    WHERE name = 'bench' AND id > (SELECT min(id) FROM journeys WHERE name = 'bench')
    RETURNING id)
UPDATE journey_entries e SET due = :due FROM paused p WHERE e.journey_id = p.id
"""
#: What moving changes, and nothing else.
_BARE = """
UPDATE journey_entries e SET step = 's2', arrived_at = :at, phase = 'due', due = :at
FROM (SELECT id FROM journey_entries WHERE id > :after ORDER BY id LIMIT 2000) x WHERE e.id = x.id
RETURNING e.id
"""


def _begun(session: orm.Session, now: dt.datetime) -> list[int]:
    """Journeys that run: two waits of no time, a random split, and a long wait."""
    itinerary = Itinerary(starts=(Start("event", "bench", id="start"),))
    halves = (Path("", percent=50), Path("", percent=50))
    for step in (
        WaitStep("", Span(0, "minute")),
        SplitStep("", halves),
        WaitStep("", Span(0, "minute")),
        WaitStep("", Span(30, "day")),
    ):
        itinerary = add(itinerary, step)
    return run_many(session, itinerary, JOURNEYS, now)


def run_many(session: orm.Session, itinerary: Itinerary, many: int, now: dt.datetime) -> list[int]:
    """So many journeys with the same itinerary that run, whatever a check would say of it; their
    numbers."""
    campaign = session.scalars(sa.select(Campaign).limit(1)).one()
    found = []
    for _ in range(many):
        made = actions.create(session, SYSTEM, now, campaign, "bench")
        made.edition, made.state, made.started_at = 1, "running", now
        session.add(
            JourneyEdition(
                journey_id=made.id, number=1, itinerary=to_json(itinerary), by="bench", at=now
            )
        )
        session.flush()
        found.append(made.id)
    return found


def journeys(world: World) -> Iterator[Measurement]:
    """People going on by several steps ÷ an UPDATE of the same rows, in portions of the same size;
    and a look while all of them wait."""
    with world.database.session() as session:
        start = clock.now(session).replace(microsecond=0)
        idents = _begun(session, start)
        for ident in idents:
            session.execute(sa.text(_PUT), {"journey": ident, "at": start, "most": world.scale})
        session.execute(sa.text("ANALYZE journey_entries"))
    try:
        bare = _bare(world, start)
        with clock.at(start):
            began = time.perf_counter()
            while _went(world):
                pass
            took = time.perf_counter() - began
            with world.database.session() as session:
                moves = session.execute(sa.text(_MOVED)).scalar_one()
            yield compare(
                f"{moves:,} steps of journeys ÷ a bare UPDATE of as many rows",
                moves / took,
                bare,
                "steps/s",
                at_least=0.35,
            )
            looks = world.median(lambda: jobs.run_here("journeys.sweep"), 15)
            with world.database.session() as session:
                session.execute(sa.text(_PAUSED), {"due": start - dt.timedelta(days=1)})
            paused = world.median(lambda: jobs.run_here("journeys.sweep"), 15)
        for what, seconds in (
            (f"a look while {world.scale * JOURNEYS:,} wait on journeys", looks),
            ("the same with four fifths of them overdue on paused ones", paused),
        ):
            yield compare(f"{what} ÷ 20 ms", 1000 * seconds, 20.0, "ms", at_most=1.0)
    finally:
        with world.database.session() as session:
            session.execute(sa.delete(Journey).where(Journey.name == "bench"))


def crowds(world: World) -> Iterator[Measurement]:
    """A look while a million people wait on a hundred journeys; then half a million due at once ÷
    an UPDATE of the same rows, and how much the memory of this process grows over that."""
    with world.database.session() as session:
        start = clock.now(session).replace(microsecond=0)
        since = start - dt.timedelta(days=1)
        itinerary = Itinerary(starts=(Start("event", "bench", id="start"),))
        for step in (WaitStep("", Span(1, "day")), WaitStep("", Span(30, "day"))):
            itinerary = add(itinerary, step)
        idents = run_many(session, itinerary, CROWDED, start)
        rounds = EACH // world.scale + 1
        values = {"at": since, "due": start + dt.timedelta(days=1), "rounds": rounds, "most": EACH}
        for ident in idents:
            session.execute(sa.text(_CROWD), {"journey": ident, **values})
        session.execute(sa.text("ANALYZE journey_entries"))
    try:
        with clock.at(start):
            looks = world.median(lambda: jobs.run_here("journeys.sweep"), 15)
            people = CROWDED * EACH
            yield compare(
                f"a look while {people:,} wait on {CROWDED} journeys ÷ 20 ms",
                1000 * looks,
                20.0,
                "ms",
                at_most=1.0,
            )
            bare = _bare(world, start, most=100_000)
            with world.database.session() as session:
                at_once = idents[: CROWDED // 2]
                session.execute(sa.text(_DUE_AT_ONCE), {"journeys": at_once})
            began, kept = time.perf_counter(), []
            while _went(world):
                kept.append(resident(os.getpid()))
            took = time.perf_counter() - began
            yield compare(
                f"{people // 2:,} people due at once ÷ a bare UPDATE of as many rows",
                people / 2 / took,
                bare,
                "steps/s",
                at_least=0.35,
            )
            yield compare(
                "memory at the end of that ÷ after a tenth",
                kept[-1],
                kept[len(kept) // 10],
                "MB",
                at_most=1.1,
            )
    finally:
        with world.database.session() as session:
            session.execute(sa.delete(Journey).where(Journey.name == "bench"))


def _went(world: World) -> bool:
    """Does one portion of what is due; says whether there is more."""
    with world.database.session() as session:
        return once(session)


def _bare(world: World, at: dt.datetime, most: int = 10**9) -> float:
    """Rows a second of the bare UPDATE of so many rows at the most, which is taken back."""
    began, rows, after = time.perf_counter(), 0, 0
    with world.database.session() as session:
        while rows < most:
            found = session.scalars(sa.text(_BARE), {"at": at, "after": after}).all()
            if not found:
                break
            rows, after = rows + len(found), max(found)
        took = time.perf_counter() - began
        session.rollback()
    return rows / took
