"""Measurements of what stands around journeys: a rehearsal, and events that come in while many
journeys run."""

import datetime as dt
import time
import zoneinfo
from collections.abc import Iterator, Sequence

import numpy as np
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.bench.run import Measurement, World, compare
from meadowrun.bench.walking import run_many
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.clocks import DAY, NEVER, Clocks
from meadowrun.core.journeys.flat import first_steps, flatten
from meadowrun.core.journeys.imagined import Leaving, Pasts, People, Starts
from meadowrun.core.journeys.imagined import World as Imagined
from meadowrun.core.journeys.rehearsal import rehearse
from meadowrun.core.journeys.steps import (
    REACTIONS,
    Itinerary,
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.timing.hours import Hours
from meadowrun.journeys import actions
from meadowrun.journeys.models import Journey
from meadowrun.people.models import EventKind
from meadowrun.tracking import taking

PEOPLE, DAYS, PLAYS = 2000, 30, 100
#: So many journeys run while events come in.
JOURNEYS = 200


def _twelve_steps() -> Itinerary:
    """Messages, waits until an hour, and waits for a reaction or an event, in turn."""
    found = Itinerary()
    for number in range(4):
        way = Path("", reaction="opened") if number % 2 else Path("", event="visited")
        for step in (
            MessageStep("", 1),
            WaitForStep("", Span(3, "day"), (way, Path(""))),
            WaitStep("", Span(1, "day"), 600),
        ):
            found = edit.add(found, step)
    return found


def _imagined(itinerary: Itinerary) -> Imagined:
    """People on four clocks with hours and a limit, all of whom come in at once, in many plays."""
    draw = np.random.default_rng(1)
    names = ("Europe/London", "Asia/Tokyo", "America/New_York", "Europe/Paris")
    zones = [zoneinfo.ZoneInfo(name) for name in names]
    messages = [step.id for step, _, _ in itinerary.walk() if isinstance(step, MessageStep)]
    reacted = draw.exponential(600, (5000, len(REACTIONS)))
    reacted[draw.random(reacted.shape) > 0.4] = NEVER
    visits = np.sort(draw.exponential(20 * DAY, (PEOPLE, 4)), axis=1)
    everybody = np.tile(np.arange(PEOPLE), PLAYS)
    return Imagined(
        Clocks.of(dt.date(2026, 11, 2), DAYS + 3, zones),
        People(
            np.arange(PEOPLE),
            np.arange(PEOPLE) % len(zones),
            {ident: np.full(PEOPLE, "go") for ident in messages},
            {},
            {},
            {0: np.full((PEOPLE, 1), NEVER)},
        ),
        Pasts({"visited": visits}, dict.fromkeys(messages, reacted)),
        Starts(
            everybody,
            draw.integers(PEOPLE, size=len(everybody)),
            np.repeat(np.arange(PLAYS), PEOPLE),
            np.zeros(len(everybody)),
        ),
        PLAYS,
        DAYS * DAY,
        {
            ident: Leaving("email", (Hours(480, 1140),), 168 * 60.0, (0,), (0,))
            for ident in messages
        },
        (Cap(3, 1, "week"),),
        {},
        "bench",
    )


def rehearsal(world: World) -> Iterator[Measurement]:
    """2,000 people, 30 days, 12 steps, 100 plays ÷ five seconds."""
    itinerary = _twelve_steps()
    imagined, steps = _imagined(itinerary), flatten(itinerary)
    took = world.median(lambda: rehearse(steps, first_steps(itinerary)[""], imagined), 3)
    yield compare(
        f"a rehearsal of {PEOPLE:,} people, {DAYS} days, 12 steps, {PLAYS} plays ÷ 5 s",
        took,
        5.0,
        "s",
        at_most=1.0,
    )


def wakes(world: World) -> Iterator[Measurement]:
    """Events that come in while many journeys run ÷ without them: none of them is waited for, and
    one in a hundred."""
    with world.database.session() as session:
        now = clock.now(session).replace(microsecond=0)
        people = session.scalars(sa.text("SELECT id FROM contacts ORDER BY id LIMIT 1000")).all()
        waited_for = EventKind(key="bench_waited", did="waited", do="wait", details={})
        session.add(waited_for)
    try:
        # The first batches find everything cold, which says nothing of journeys.
        _rate(world, people, now, 0)
        alone = _rate(world, people, now, 0)
        _run_many(world, now)
        none = _rate(world, people, now, 0)
        some = _rate(world, people, now, 1)
        yield compare(
            f"events while {JOURNEYS} journeys run, none waited for ÷ without journeys",
            none,
            alone,
            "events/s",
            at_least=0.8,
        )
        yield compare(
            "the same, one in a hundred waited for",
            some,
            alone,
            "events/s",
            at_least=0.6,
        )
    finally:
        with world.database.session() as session:
            session.execute(sa.delete(Journey).where(Journey.name == "bench"))
            session.execute(sa.text("DELETE FROM heard"))
            session.execute(
                sa.text(
                    "DELETE FROM events WHERE kind_id = (SELECT id FROM event_kinds "
                    "WHERE key = 'bench_waited')"
                )
            )
            session.execute(sa.delete(EventKind).where(EventKind.key == "bench_waited"))


def _run_many(world: World, now: dt.datetime) -> None:
    """Journeys that an event starts."""
    start = Start("event", "bench_waited", id="start")
    itinerary = Itinerary((start,), (WaitStep("s1", Span(1, "day")),))
    with world.database.session() as session:
        run_many(session, itinerary, JOURNEYS, now)
        actions.note_heard(session)


def _rate(world: World, people: Sequence[int], now: dt.datetime, waited_for: int) -> float:
    """Events a second in batches of 1,000, of which so many in each hundred are waited for; of the
    fastest of twenty."""
    size, fastest = 1000, float("inf")
    for batch in range(20):
        data = [
            {
                "event": "bench_waited" if number % 100 < waited_for else "page_viewed",
                "contact": people[number % len(people)],
                "id": f"{time.time_ns()}-{batch}-{number}",
                "at": now.isoformat(),
                "details": {} if number % 100 < waited_for else {"page": "/tickets"},
            }
            for number in range(size)
        ]
        began = time.perf_counter()
        with world.database.session() as session:
            taking.take_events(session, now, "bench", data)
        fastest = min(fastest, time.perf_counter() - began)
    return size / fastest
