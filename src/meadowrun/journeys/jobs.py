"""The background jobs of journeys: what happened brings people in and wakes those who wait; then
everybody whose step is due goes on."""

import datetime as dt
import time
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.core.journeys.steps import MessageStep
from meadowrun.journeys import entering, moving, sending
from meadowrun.journeys.entering import Happened
from meadowrun.journeys.membership import members
from meadowrun.journeys.models import MOVES, Journey
from meadowrun.journeys.moving import Move, Walk
from meadowrun.people.models import EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary

#: Seconds after which a sweep makes room for others; it asks for the next itself.
SLICE = 20.0
#: So much of what happened is looked at in one transaction.
MOST_HEARD = 5000
#: One sweep at a time: two would only wait for each other's people.
_LOCK = "SELECT pg_try_advisory_xact_lock(7203415, 1)"


@jobs.task("journeys.sweep", "sweeps", every="* * * * * */5")
def sweep() -> None:
    """Everything due by now. Safe to run any number of times, anywhere."""
    until = time.monotonic() + SLICE
    while time.monotonic() < until:
        with context().database.session() as session:
            if not session.execute(sa.text(_LOCK)).scalar():
                return
            if not once(session):
                return
    with context().database.session() as session:
        jobs.enqueue(session, "journeys.sweep")


def once(session: orm.Session) -> bool:
    """Does one portion of what is due; says whether there may be more."""
    settings, now = context().settings, clock.now(session)
    zone = zoneinfo.ZoneInfo(settings.timezone)
    listened = _listen(session, now)
    settled = _go_on(session, now)
    moved = moving.advance(session, now, zone, settings.public_url)
    return bool(listened or settled or moved)


def _listen(session: orm.Session, now: dt.datetime) -> int:
    """What happened since brings people in, wakes those who wait, and reaches goals."""
    found = entering.heard(session, MOST_HEARD)
    if not found:
        return 0
    # A kind that was merged into another is still called as before by what was written then.
    kinds = {kind.id: (kind.key, *kind.aka) for kind in session.scalars(sa.select(EventKind))}
    by_key: dict[str, list[Happened]] = {}
    for one in found:
        for key in kinds.get(one.kind_id or 0, ()):
            by_key.setdefault(key, []).append(one)
    # Who reaches the goal while it is paused has reached it.
    heard_by = sa.select(Journey).where(Journey.state.in_((*MOVES, "paused")))
    for journey in session.scalars(heard_by):
        walk = Walk.of(session, journey)
        if journey.state == "running" and walk.itinerary.start.event:
            starts = [
                one
                for one in by_key.get(walk.itinerary.start.event, ())
                if journey.started_at is not None and one.at >= journey.started_at
            ]
            entering.enter(session, walk, starts, "start")
        if walk.itinerary.goal:
            happened = by_key.get(walk.itinerary.goal.event, ())
            ends = entering.reach_goal(session, walk, happened)
            if journey.state in MOVES:
                moving.move(session, [Move(ident, "", at, "goal", "left") for ident, at in ends])
    entering.wake(session, now, [one.contact_id for one in found])
    return len(found)


def _go_on(session: orm.Session, now: dt.datetime) -> int:
    """People whose message is settled go on."""
    found = sending.settled(session, now, MOVES, moving.BATCH)
    walks: dict[int, Walk] = {}
    moves = []
    for one in found:
        if one.journey_id not in walks:
            journey = session.get_one(Journey, one.journey_id)
            walks[one.journey_id] = Walk.of(session, journey)
        flat = walks[one.journey_id].steps.get(one.step)
        because = "sent" if one.sent else one.outcome
        if flat is None:
            moves.append(Move(one.id, "", one.at, "removed", "left", one.delivery))
        elif not one.sent and isinstance(flat.step, MessageStep) and flat.step.refused == "exit":
            moves.append(Move(one.id, "", one.at, because, "left", one.delivery))
        else:
            moves.append(Move(one.id, flat.next, one.at, because, "", one.delivery))
    moving.move(session, moves)
    return len(found)


@jobs.task("journeys.begin", "waited")
def begin(journey_id: int) -> None:
    """Brings in who is in the segment that a journey starts with."""
    with context().database.session() as session:
        now = clock.now(session)
        journey = session.get_one(Journey, journey_id, with_for_update=True)
        if journey.state != "running":
            return
        walk = Walk.of(session, journey)
        zone = zoneinfo.ZoneInfo(context().settings.timezone)
        moment = Moment(session, dictionary(session), now, zone)
        people = members(moment, walk.itinerary.start.segment)
        starts = [Happened(contact, None, now, None, now) for contact in people]
        for place in range(0, len(starts), MOST_HEARD):
            entering.enter(session, walk, starts[place : place + MOST_HEARD], "start")
        jobs.enqueue(session, "journeys.sweep")
