"""The journeys of the demo world: written as a marketer would, started weeks ago, and walked since
by whoever came in."""

import dataclasses
import datetime as dt
from collections.abc import Callable

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.db import Database
from meadowrun.base.settings import Settings
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.steps import Goal, Itinerary, Parting, Start
from meadowrun.core.journeys.words import Names
from meadowrun.journeys import actions, queries
from meadowrun.journeys.jobs import once
from meadowrun.journeys.models import Journey
from meadowrun.outgoing.jobs import next_dispatch

IDA = Actor(None, "Ida Vance", "admin")
#: (campaign, name, days since it was started, what starts it, goal and its days, lines). A line
#: that begins with a letter and a bracket goes into that path of the step before.
JOURNEYS: tuple[tuple[str, str, int, str, tuple[str, int], tuple[str, ...]], ...] = (
    (
        "Sky diary",
        "First two weeks",
        18,
        "membership_started",
        ("visited", 30),
        (
            "email Your first night",
            "wait 2 days until 10:00",
            "wait for opened or visited the dome, 4 days",
            "a) text Clear tonight, by text",
            "c) email Sky diary",
            "wait 3 days",
            "email Leonid nights",
        ),
    ),
    (
        "After your visit",
        "After a visit",
        5,
        "visited",
        ("ticket_bought", 21),
        (
            "wait 1 day until 17:00",
            "email Thank you for coming",
            "if in Members",
            "b) wait 4 days",
            "b) email Lecture: moons with oceans",
        ),
    ),
)


def begin(session: orm.Session, now: dt.datetime, number: int) -> None:
    """Writes and starts one of the journeys as of a moment."""
    campaign, name, _, start, (event, days), lines = JOURNEYS[number]
    names = queries.names(session)
    of = session.scalars(sa.select(Campaign).where(Campaign.name == campaign)).one()
    made = actions.create(session, IDA, now, of, name)
    itinerary = Itinerary(
        start=Start("event", start), goal=Goal(event, days), again="after", again_days=90
    )
    for line in lines:
        itinerary = _with(itinerary, line, names)
    _write(session, now, made, itinerary)
    actions.start(session, IDA, now, made, made.version)


def _write(session: orm.Session, now: dt.datetime, made: Journey, itinerary: Itinerary) -> None:
    actions.write(session, IDA, now, made, made.version, "wrote it", lambda _: itinerary)


def _with(itinerary: Itinerary, line: str, names: Names) -> Itinerary:
    """An itinerary with one more typed step; what is not understood is left out."""
    path = edit.ROOT
    if line[1:2] == ")":
        parting = next(one for one in reversed(itinerary.steps) if isinstance(one, Parting))
        path, line = parting.paths["abcdef".index(line[0])].id, line[3:]
    readings = typed.read(line, names)
    return edit.add(itinerary, readings[0].step, path) if readings else itinerary


#: What happened since they were started, as if it were told at its moment.
_TOLD = """
INSERT INTO heard (contact_id, kind_id, at, details, noted_at)
SELECT e.contact_id, e.kind_id, e.at, e.details, e.at
FROM events e JOIN event_kinds k ON k.id = e.kind_id
WHERE k.heard AND e.at > :after AND e.at <= :upto ORDER BY e.at
"""
#: Whoever waits for something is looked at: reactions are written with moments still to come.
_LOOK = "UPDATE journey_entries SET due = :now WHERE phase = 'awaiting'"
#: What was handed over in a span of time: contact, dispatch, number, when, how many links it has.
_HANDED = """
SELECT d.contact_id, d.dispatch_id, d.number, d.at, e.compiled
FROM journey_dispatches j JOIN dispatches s ON s.id = j.dispatch_id
JOIN editions e ON e.id = s.edition_id
JOIN deliveries d ON d.dispatch_id = s.id AND d.taken_at = s.taken_at
WHERE d.outcome = 'delivered' AND d.at > :after AND d.at <= :upto ORDER BY d.number
"""
#: Has what somebody does with one message written: contact, (dispatch, delivery), when, the dice,
#: its links.
React = Callable[[orm.Session, int, tuple[int, int], dt.datetime, int], None]


def live(database: Database, settings: Settings, now: dt.datetime, react: React) -> None:
    """Writes the journeys, starts them some weeks before a moment, and lets these weeks pass:
    people come in by what they really did, and react as `react` has them."""
    quiet = dataclasses.replace(settings, smtp_url="null:", sms_url="null:", push_url="null:")
    jobs.set_context(jobs.Context(database, quiet))
    starts = {now - dt.timedelta(days=one[2]): place for place, one in enumerate(JOURNEYS)}
    before = min(starts)
    for moment in sorted({*starts, *_moments(before, now)}):
        span = {"after": before, "upto": moment}
        with clock.at(moment):
            with database.session() as session:
                session.execute(sa.text(_TOLD), span)
                session.execute(sa.text(_LOOK), {"now": moment})
            _work(database, moment)
            with database.session() as session:
                for row in session.execute(sa.text(_HANDED), span).all():
                    links = len(row.compiled["links"])
                    react(session, row.contact_id, (row.dispatch_id, row.number), row.at, links)
                if moment in starts:
                    begin(session, moment, starts[moment])
        before = moment


def _moments(start: dt.datetime, end: dt.datetime) -> list[dt.datetime]:
    """The moments at which the past is walked: every few hours, and the end."""
    step = dt.timedelta(hours=12)
    count = int((end - start) / step)
    return [start + step * place for place in range(1, count + 1)] + [end]


def _work(database: Database, now: dt.datetime) -> None:
    """Does all that is due, as workers do."""
    while True:
        with database.session() as session:
            more = once(session)
        while True:
            with database.session() as session:
                waits = next_dispatch(session, now) is not None
            if not waits:
                break
            jobs.run_here("outgoing.deliver")
            more = True
        if not more:
            return
