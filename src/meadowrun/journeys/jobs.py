"""The background jobs of journeys: what happened brings people in and wakes those who wait; then
everybody whose step is due goes on."""

import datetime as dt
import time
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.base.jobs import context
from meadowrun.core.journeys.steps import MessageStep
from meadowrun.journeys import calling, entering, figures, moving, queries, sending, watching
from meadowrun.journeys.calling import RESTS
from meadowrun.journeys.entering import Happened
from meadowrun.journeys.leaving import take_off
from meadowrun.journeys.membership import lately, members
from meadowrun.journeys.models import MOVES, Journey
from meadowrun.journeys.moves import Move, move
from meadowrun.journeys.safety import take_out_withdrawn, watch
from meadowrun.journeys.walks import Walk
from meadowrun.people.models import EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary

#: Seconds after which a sweep makes room for others; it asks for the next itself.
SLICE = 20.0
END_OF_TIME = dt.datetime.max.replace(tzinfo=dt.UTC)
#: Somebody who should have gone on so long ago is behind; what happened within such a time is
#: looked at together, and longer where nobody did two things.
BEHIND = dt.timedelta(minutes=1)
#: So much of what happened is looked at in one transaction.
MOST_HEARD = 5000
#: The numbers of a journey are added up anew from so many rows at the most.
MOST_ROWS = 500
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


def once(session: orm.Session, in_order: bool = True) -> bool:
    """Does one portion of what is due; says whether there may be more.

    In the order in which it was due, also after an outage: people go on up to the moment of the
    first that happened and was not looked at; then that is looked at, up to the moment at which
    somebody goes on again. What no event tells is looked at while nobody is behind. Not in order,
    all that happened is looked at together, in far fewer portions.
    """
    settings, now = context().settings, clock.now(session)
    zone = zoneinfo.ZoneInfo(settings.timezone)
    running = moving.running(session)
    first = entering.first_heard(session)
    due = moving.next_due(session, running)
    behind = min(one for one in (first, due, now) if one is not None) < now - BEHIND
    seen = 0 if behind and in_order else watching.look(session, now, zone)
    settled = _go_on(session, now) + _called(session, now)
    until = min(first, now) if first is not None and in_order else now
    moved = moving.NOBODY
    if seen or settled or due is not None and due <= until:
        moved = moving.advance(session, now, until, running, zone, settings.public_url)
    for (journey_id, lane), jumps in moved.jumps.items():
        _go_over(session, journey_id, lane, jumps)
    if moved.looked_at or first is None:
        return bool(seen or settled or moved.looked_at)
    slice_ends = now
    if in_order:
        # Whoever comes in by what happened first goes on before the next that happened much later.
        following = moving.next_due(session, running, until) or now
        slice_ends = min(now, following, max(first + BEHIND, _apart(session, now)))
    return bool(_listen(session, now, zone, slice_ends) or seen or settled)


def _apart(session: orm.Session, now: dt.datetime) -> dt.datetime:
    """Up to when nobody did two things that were not looked at yet."""
    second = entering.second_heard(session, MOST_HEARD)
    return second - dt.timedelta(microseconds=1) if second else now


def _go_over(
    session: orm.Session, journey_id: int, lane: str, jumps: list[tuple[int, dt.datetime]]
) -> None:
    """Brings people into the lane of a journey that a step leads to, as far as it runs; into a lane
    below their own also while that winds down, with what it is about: nobody goes round then."""
    journey = session.get(Journey, journey_id)
    if journey is None or journey.state not in MOVES:
        return
    some = queries.entries_by_number(session, [ident for ident, _ in jumps])
    walk = Walk.of(session, journey)
    lanes = [one.id for one in walk.itinerary.lanes]
    starts = []
    testers = {one.contact_id: one.most_wait for one in some.values() if one.tester}
    for ident, at in jumps:
        entry = some[ident]
        own = entry.journey_id == journey_id
        # Their own lane may be gone by now.
        below = own and {entry.lane, lane} <= {*lanes} and _is_below(lanes, lane, entry.lane)
        if journey.state == "running" or journey.state == "winding_down" and below:
            starts.append(Happened(entry.contact_id, None, at, entry.details if own else None, at))
    entering.enter(session, walk, starts, "jumped_in", lane=lane, testers=testers)


def _is_below(lanes: list[str], lane: str, other: str) -> bool:
    """Whether a lane stands below another."""
    return lanes.index(lane) > lanes.index(other)


def _listen(
    session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo, until: dt.datetime
) -> int:
    """What happened up to a moment brings people in, wakes those who wait, and reaches goals."""
    found = entering.heard(session, until, MOST_HEARD)
    if not found:
        return 0
    # A kind that was merged into another is still called as before by what was written then.
    kinds = {kind.id: (kind.key, *kind.aka) for kind in session.scalars(sa.select(EventKind))}
    by_key: dict[str, list[Happened]] = {}
    for one in found:
        for key in kinds.get(one.kind_id or 0, ()):
            by_key.setdefault(key, []).append(one)
    # Who reaches the goal while it is paused has reached it, and who is taken out is out: what
    # happened is told once.
    moment = Moment(session, dictionary(session), now, zone)
    heard_by = sa.select(Journey).where(Journey.state.in_((*MOVES, "paused")))
    for journey in session.scalars(heard_by):
        walk = Walk.of(session, journey)
        if journey.state == "running":
            _started(moment, walk, by_key)
        goal = walk.itinerary.goal
        reached = entering.reach_goal(session, walk, by_key.get(goal.event, ())) if goal else []
        leaves = entering.leave(session, walk, by_key)
        out = {ident: at for ident, at, _ in leaves}
        # Whoever is taken out at the same moment does not go on.
        on = [one for one in reached if goal and goal.ends or one.at < out.get(one.id, END_OF_TIME)]
        take_off(session, on)
        take_off(session, [Move(ident, "", at, rule, "left") for ident, at, rule in leaves])
    entering.wake(session, found)
    return len(found)


def _started(moment: Moment, walk: Walk, by_key: dict[str, list[Happened]]) -> None:
    """Brings in those to whom something happened that starts a journey, since it runs."""
    for start in walk.itinerary.starts:
        happened = by_key.get(start.event, ()) if start.how == "event" else ()
        if not happened:
            continue
        began = queries.start_since(moment.session, walk.journey, start)
        starts = [one for one in happened if one.at >= began]
        among: set[int] | None = set()
        try:
            among = watching.let_in(moment, start.who, [one.contact_id for one in starts])
        except Invalid as problem:
            # Nobody is lost over it: it is said, and who came meanwhile is counted.
            walk.journey.problem = str(problem)
        entering.enter(moment.session, walk, starts, "start", among, start.id)


def _go_on(session: orm.Session, now: dt.datetime) -> int:
    """People whose message is settled go on."""
    found = sending.settled(session, now, MOVES, moving.BATCH)
    walks: dict[int, Walk] = {}
    moves, others = [], []
    for one in found:
        if one.journey_id not in walks:
            journey = session.get_one(Journey, one.journey_id)
            walks[one.journey_id] = Walk.of(session, journey)
        flat = walks[one.journey_id].steps.get(one.step)
        because = "sent" if one.sent else one.outcome
        refused = flat.step if flat and not (one.sent or one.outcome == "control") else None
        if flat is None:
            moves.append(Move(one.id, "", one.at, "removed", "left", one.delivery))
        elif isinstance(refused, MessageStep) and one.attempt < len(refused.instead):
            others.append(one)
        elif isinstance(refused, MessageStep) and refused.refused == "exit":
            moves.append(Move(one.id, "", one.at, because, "left", one.delivery))
        else:
            moves.append(Move(one.id, flat.next, one.at, because, "", one.delivery))
    sending.try_next(session, others)
    move(session, moves)
    return len(found)


def _called(session: orm.Session, now: dt.datetime) -> int:
    """People whose webhook has answered, or was given up, go on."""
    found = calling.settled(session, MOVES, moving.BATCH)
    walks: dict[int, Walk] = {}
    moves = []
    for one in found:
        if one.journey_id not in walks:
            journey = session.get_one(Journey, one.journey_id)
            walks[one.journey_id] = Walk.of(session, journey)
            if calling.resting(session, journey.id, now):
                journey.problem = str(RESTS)
            elif journey.problem == str(RESTS):
                journey.problem = ""
        flat = walks[one.journey_id].steps.get(one.step)
        because = "answered" if one.answered else "failed"
        if flat is None:
            moves.append(Move(one.id, "", one.at, "removed", "left"))
        elif not one.answered and getattr(flat.step, "failed", "") == "exit":
            moves.append(Move(one.id, "", one.at, because, "left"))
        else:
            moves.append(Move(one.id, flat.next, one.at, because))
    move(session, moves)
    return len(found)


@jobs.task("journeys.safety", "sweeps", every="* * * * * */30")
def safety() -> None:
    """Pauses journeys in which something goes wrong, and takes out who withdrew all consent."""
    with context().database.session() as session:
        now = clock.now(session)
        watch(session, now)
        take_out_withdrawn(session, now)


@jobs.task("journeys.add_up", "upkeep", every="* * * * * 25")
def add_up() -> None:
    """Puts together what was added to the numbers of journeys."""
    with context().database.session() as session:
        figures.add_up(session, MOST_ROWS)


@jobs.task("journeys.call", "waited", every="* * * * * */5")
def call() -> None:
    """Makes the calls of webhooks that are due. Safe to run any number of times, anywhere."""
    with context().database.session() as session:
        now = clock.now(session)
    while calling.call_due(context().database, context().settings, now):
        with context().database.session() as session:
            jobs.enqueue(session, "journeys.sweep")


@jobs.task("journeys.begin", "waited")
def begin(journey_id: int, start: str) -> None:
    """Brings in all those with whom a start of a journey begins."""
    with context().database.session() as session:
        now = clock.now(session)
        journey = session.get_one(Journey, journey_id, with_for_update=True)
        if journey.state != "running":
            return
        walk = Walk.of(session, journey)
        zone = zoneinfo.ZoneInfo(context().settings.timezone)
        moment = Moment(session, dictionary(session), now, zone)
        asked = [one for one in walk.itinerary.starts if one.id == start]
        for one in asked:
            people = (
                lately(moment, one)
                if one.how == "event"
                else dict.fromkeys(members(moment, one.who))
            )
            starts = [
                Happened(contact, None, now, details, now) for contact, details in people.items()
            ]
            for place in range(0, len(starts), MOST_HEARD):
                some = starts[place : place + MOST_HEARD]
                entering.enter(session, walk, some, "start", by=one.id)
        jobs.enqueue(session, "journeys.sweep")
