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
from meadowrun.core.journeys.steps import Goal, Itinerary, Parting
from meadowrun.core.journeys.words import Names
from meadowrun.demo.stories import IDA
from meadowrun.journeys import actions, queries
from meadowrun.journeys.jobs import once
from meadowrun.journeys.models import Journey
from meadowrun.outgoing.jobs import next_dispatch
from meadowrun.shell.models import User
from meadowrun.tasks.actions import finish, note_kind
from meadowrun.tasks.models import ColleagueTask


@dataclasses.dataclass(frozen=True)
class Written:
    """A journey as its author wrote it; campaigns, segments and colleagues go by their names."""

    campaign: str
    name: str
    #: days since it was started
    days: int
    #: what brings people in, as it is typed
    starts: tuple[str, ...]
    #: an event and within how many days
    goal: tuple[str, int]
    #: steps as they are typed; one that begins with a letter and a bracket goes into that path of
    #: the step before
    lines: tuple[str, ...]
    #: what takes people out, as it is typed
    exits: tuple[str, ...] = ()
    again_days: int = 90
    #: so many of a hundred are its control group
    control: int = 0


JOURNEYS = (
    Written(
        "Sky diary",
        "First two weeks",
        18,
        ("started a membership",),
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
    Written(
        "After your visit",
        "After a visit",
        5,
        ("visited the dome",),
        ("ticket_bought", 21),
        (
            "wait 1 day until 17:00",
            "email Thank you for coming",
            "if in Members",
            "b) wait 4 days",
            "b) email Lecture: moons with oceans",
        ),
    ),
    Written(
        "Renewals, winter",
        "A month before renewal",
        16,
        ("30 days before renewal date at 9:30",),
        ("membership_renewed", 45),
        (
            "email Another year of stars",
            "wait 7 days, then until Tuesday 10:00",
            "if membership is Student",
            "b) call for Noor and Will: ask whether they wish to stay, in 4 days",
            "wait until 3 days before their renewal date",
            "email Another year of stars",
        ),
        ("renewed a membership",),
        again_days=300,
    ),
    Written(
        "Leonid nights",
        "Looked, did not buy",
        6,
        ("becomes one in Looked at tickets, did not buy",),
        ("ticket_bought", 7),
        (
            "wait 2 hours",
            "push Clear tonight, as a push notification, or else email Leonid nights",
            "wait 2 days until 18:00",
            "email Leonid nights",
        ),
        ("bought a ticket",),
        again_days=14,
        control=20,
    ),
    Written(
        "Renewals, winter",
        "Lapsed members",
        21,
        ("let a membership lapse",),
        ("membership_renewed", 60),
        (
            "wait 5 days until 10:00",
            "email Another year of stars",
            "wait for opened or looked at tickets, 6 days",
            "b) text Clear tonight, by text",
            "c) call for Noor and Will: ask why they left, in 3 days",
        ),
        ("renewed a membership", "started a membership"),
    ),
    Written(
        "Autumn lectures",
        "After a lecture",
        12,
        ("came to a lecture",),
        ("lecture_booked", 40),
        (
            "wait 1 day until 11:00",
            "email Thank you for coming",
            "wait 5 days",
            "split 50 50",
            "a) email Lecture: moons with oceans",
            "b) email Sky diary",
        ),
    ),
    Written(
        "Autumn lectures",
        "Schools before the agreement ends",
        20,
        ("60 days before agreement ends at 8:30, only if in School contacts",),
        ("task_done", 30),
        (
            "call for Will: agree the visits of next year, in 5 days",
            "wait for had a task done, 10 days",
            "b) appointment for Hetty: visit the school, in 10 days",
        ),
        again_days=300,
    ),
    Written(
        "Sky diary",
        "Thanks to donors and buyers",
        14,
        ("donated", "ordered from the shop"),
        ("donated", 90),
        (
            "email Thank you for coming",
            "if the event’s amount is over 50",
            "a) call for Hetty: thank them in person, in 2 days",
            "wait 9 days until 12:00",
            "email Sky diary",
        ),
        again_days=60,
    ),
)


def begin(session: orm.Session, now: dt.datetime, number: int) -> None:
    """Writes and starts one of the journeys as of a moment."""
    written = JOURNEYS[number]
    note_kind(session)
    names = queries.names(session)
    of = session.scalars(sa.select(Campaign).where(Campaign.name == written.campaign)).one()
    made = actions.create(session, IDA, now, of, written.name)
    event, days = written.goal
    itinerary = Itinerary(
        goal=Goal(event, days, control=written.control),
        again="after",
        again_days=written.again_days,
    )
    for start in written.starts:
        itinerary = edit.add_start(itinerary, typed.read_start(start, names)[0][0])
    for line in written.lines:
        itinerary = _with(itinerary, line, names)
    for rule in written.exits:
        itinerary = edit.add_exit(itinerary, typed.read_exit_rule(rule, names)[0][0])
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
    starts = {now - dt.timedelta(days=one.days): place for place, one in enumerate(JOURNEYS)}
    before = min(starts)
    for moment in sorted({*starts, *_moments(before, now)}):
        span = {"after": before, "upto": moment}
        with clock.at(moment):
            with database.session() as session:
                session.execute(sa.text(_TOLD), span)
                session.execute(sa.text(_LOOK), {"now": moment})
            _work(database, moment)
            _desk(database, moment)
            with database.session() as session:
                for row in session.execute(sa.text(_HANDED), span).all():
                    links = len(row.compiled["links"])
                    react(session, row.contact_id, (row.dispatch_id, row.number), row.at, links)
                if moment in starts:
                    begin(session, moment, starts[moment])
        before = moment


def _desk(database: Database, now: dt.datetime) -> None:
    """The desk does three of five of its tasks within a day or two, and writes the outcome."""
    with database.session() as session:
        waiting = sa.select(ColleagueTask).where(
            ColleagueTask.state == "open", ColleagueTask.created_at < now - dt.timedelta(hours=30)
        )
        for task in session.scalars(waiting.order_by(ColleagueTask.id)).all():
            said = _CAME_OF_IT.get(task.contact_id % 5)
            colleague = session.get(User, task.user_id) if task.user_id else None
            if said and colleague is not None:
                who = Actor(colleague.id, colleague.name, colleague.role)
                finish(session, who, now, task, "done", said)


#: What comes of a task, by the last figure of the contact's number: of others nothing yet.
_CAME_OF_IT = {0: "glad to be asked", 1: "wants to think it over", 2: "not there, left a word"}


def _moments(start: dt.datetime, end: dt.datetime) -> list[dt.datetime]:
    """The moments at which the past is walked: every few hours, and the end."""
    step = dt.timedelta(hours=12)
    count = int((end - start) / step)
    return [start + step * place for place in range(1, count + 1)] + [end]


def _work(database: Database, now: dt.datetime) -> None:
    """Does all that is due, as workers do, half a day at once: weeks pass in a minute."""
    while True:
        with database.session() as session:
            more = once(session, in_order=False)
        while True:
            with database.session() as session:
                waits = next_dispatch(session, now) is not None
            if not waits:
                break
            jobs.run_here("outgoing.deliver")
            more = True
        if not more:
            return
