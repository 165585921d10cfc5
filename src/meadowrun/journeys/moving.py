"""Moves people along journeys, thousands at a time: each step is done for all who are on it.

`core/journeys/engine.py` is the judge of what is done here; a property test holds the two equal.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.details import holds
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.steps import (
    OUTWARD,
    BranchStep,
    ChangeStep,
    GoalStep,
    JumpStep,
    MessageStep,
    SplitStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.waits import wait_until
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_of
from meadowrun.journeys import calling, changing, sending, wordings
from meadowrun.journeys.membership import days_of, members
from meadowrun.journeys.models import MOVES, Journey, JourneyEntry
from meadowrun.journeys.moves import Move, move, stay
from meadowrun.journeys.walks import Walk
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.shell.telling import named
from meadowrun.tasks.actions import Given, Wanted, give

#: Before everything.
EVER = dt.datetime.min.replace(tzinfo=dt.UTC)
#: So many people are moved in one transaction.
BATCH = 2000

#: People whose step is due, locked: entry, journey, contact, step, when they arrived, phase, the
#: last message they were sent, what it is about, which message is tried, how long a wait of theirs
#: may take, and their zone.
_DUE = """
WITH longest AS (
    SELECT e.id FROM unnest(CAST(:moving AS bigint[])) AS m(journey)
    CROSS JOIN LATERAL (
        SELECT o.id, o.due FROM journey_entries o
        WHERE o.journey_id = m.journey AND o.due <= :until ORDER BY o.due, o.id LIMIT :most) e
    ORDER BY e.due, e.id LIMIT :most),
due AS MATERIALIZED (
    SELECT id, journey_id, contact_id, step, arrived_at, phase, due, sent_delivery, subject,
        attempt, most_wait
    FROM journey_entries WHERE id IN (SELECT id FROM longest) AND due <= :until
    ORDER BY due, id
    FOR UPDATE SKIP LOCKED)
SELECT d.*, (SELECT c.timezone FROM contacts c WHERE c.id = d.contact_id) FROM due d
"""
#: The first event of each kind that entries wait for, within the time they wait: entry, the place
#: of its path, moment.
_EVENTS = """
SELECT w.id, k.place, min(e.at) AS at
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS w(id bigint, contact bigint, since timestamptz, until timestamptz, subject text)
CROSS JOIN jsonb_to_recordset(CAST(:kinds AS jsonb)) AS k(place int, event text)
JOIN event_kinds n ON n.key = k.event OR k.event = ANY(n.aka)
JOIN events e ON e.contact_id = w.contact AND e.kind_id = n.id AND e.at >= w.since
    AND e.at < w.until
    AND (w.subject = '' OR coalesce(e.details->>:about, w.subject) = w.subject)
GROUP BY 1, 2
"""
#: The first reaction of each kind to the message that entries were sent last: the same.
_REACTIONS = """
SELECT w.id, k.place, min(greatest(r.at, w.since)) AS at
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS w(id bigint, contact bigint, since timestamptz, until timestamptz, delivery bigint)
CROSS JOIN jsonb_to_recordset(CAST(:kinds AS jsonb)) AS k(place int, reaction text, link text)
JOIN reactions r ON r.contact_id = w.contact AND r.delivery = w.delivery
    AND r.kind = k.reaction AND NOT r.machine AND r.at < w.until
WHERE k.link = '' OR EXISTS (
    SELECT 1 FROM dispatches s JOIN editions e ON e.id = s.edition_id
    CROSS JOIN jsonb_array_elements(e.compiled -> 'links') l
    WHERE s.id = r.dispatch_id AND (l ->> 'number')::int = r.link AND l ->> 'href' = k.link)
GROUP BY 1, 2
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Due:
    """One entry whose step is due."""

    id: int
    journey_id: int
    contact_id: int
    step: str
    arrived_at: dt.datetime
    phase: str
    due: dt.datetime
    sent_delivery: int | None
    subject: str
    attempt: int
    #: in seconds; empty: as long as it takes
    most_wait: int | None
    timezone: str | None

    def at_most(self, over: dt.datetime, since: dt.datetime) -> dt.datetime:
        """When a wait is over that would be over at a moment: a tester's may be cut short."""
        if self.most_wait is None:
            return over
        return min(over, since + dt.timedelta(seconds=self.most_wait))


@dataclasses.dataclass(frozen=True, slots=True)
class Advanced:
    """How many people were looked at, and who goes over to which lane of which journey, by their
    entry, and when."""

    looked_at: int
    jumps: Mapping[tuple[int, str], list[tuple[int, dt.datetime]]]


NOBODY = Advanced(0, {})


#: When the next is due who is on a journey that moves.
_NEXT_DUE = """
SELECT min(e.due) FROM unnest(CAST(:moving AS bigint[])) AS m(journey)
CROSS JOIN LATERAL (
    SELECT o.due FROM journey_entries o
    WHERE o.journey_id = m.journey AND o.due > :after ORDER BY o.due LIMIT 1) e
"""


def running(session: orm.Session) -> list[int]:
    """The journeys on which people move."""
    return list(session.scalars(sa.select(Journey.id).where(Journey.state.in_(MOVES))))


def next_due(
    session: orm.Session, journeys: Sequence[int], after: dt.datetime = EVER
) -> dt.datetime | None:
    """When the next on one of some journeys is due after a moment; None where nobody is."""
    values = {"after": after, "moving": list(journeys)}
    found: dt.datetime | None = session.execute(sa.text(_NEXT_DUE), values).scalar()
    return found


def advance(
    session: orm.Session,
    now: dt.datetime,
    until: dt.datetime,
    journeys: Sequence[int],
    zone: zoneinfo.ZoneInfo,
    url: str,
) -> Advanced:
    """Does the step of those on some journeys who are due longest, up to a moment, BATCH people at
    the most. `zone` is that of people without one, `url` the public address that messages are made
    with."""
    values = {"until": until, "most": BATCH, "moving": list(journeys)}
    groups: dict[tuple[int, str], list[Due]] = {}
    for row in session.execute(sa.text(_DUE), values):
        groups.setdefault((row.journey_id, row.step), []).append(Due(*row))
    walks: dict[int, Walk] = {}
    moves: list[Move] = []
    jumps: dict[tuple[int, str], list[tuple[int, dt.datetime]]] = {}
    for (journey_id, step), people in groups.items():
        if journey_id not in walks:
            walks[journey_id] = Walk.of(session, session.get_one(Journey, journey_id))
        walk = walks[journey_id]
        flat = walk.steps.get(step)
        if flat is None:
            # The step was taken away: they are at the end.
            moves += [Move(one.id, END, now, "removed", "left") for one in people]
            continue
        # Whoever came in as one of those that an exit rule takes out is out at once.
        first = step in walk.first.values()
        asked = [
            one for one in people if isinstance(flat.step, OUTWARD) or first and one.phase == "due"
        ]
        if asked:
            out = _taken_out(session, walk, asked, now, zone)
            people = [one for one in people if one.id not in out]
        if isinstance(flat.step, WaitStep):
            made = _wait(session, flat, flat.step, people, now, until, zone)
        elif isinstance(flat.step, WaitForStep):
            made = _wait_for(session, flat, flat.step, people, until, walk.itinerary.subject)
        else:
            made = _do(session, walk, flat, people, now, zone, url)
        of = {one.id: one for one in people}
        for one in made:
            moves += _further(walk, of[one.id], one, until, zone)
        if isinstance(flat.step, JumpStep):
            to = (flat.step.journey or journey_id, flat.step.lane)
            jumps.setdefault(to, []).extend((one.id, one.arrived_at) for one in people)
    move(session, moves)
    return Advanced(sum(map(len, groups.values())), jumps)


def _further(
    walk: Walk, one: Due, first: Move, until: dt.datetime, zone: zoneinfo.ZoneInfo
) -> list[Move]:
    """A move of somebody, and those that follow from it by a moment without anybody being asked or
    told anything: whatever waits they come to that are over by then, random splits, goals."""
    made = [first]
    while (last := made[-1]).to_step != END and last.at <= until:
        flat = walk.steps.get(last.to_step)
        step = flat.step if flat else None
        if flat is None or step is None:
            break
        if isinstance(step, WaitStep) and not step.date:
            over = wait_until(step, last.at, zone_of(one.timezone) or zone)
            if over is None:
                break
            over = one.at_most(over, last.at)
            if over > until:
                made[-1] = last.waiting(over)
                break
            made.append(Move(one.id, flat.next, over, "time"))
        elif isinstance(step, SplitStep):
            made.append(_by_chance(walk, flat, step, one, last.at))
        elif isinstance(step, GoalStep):
            made.append(Move(one.id, flat.next, last.at, "done"))
        else:
            break
    return made


def _by_chance(walk: Walk, flat: Flat, step: SplitStep, one: Due, at: dt.datetime) -> Move:
    """Where a random split takes somebody."""
    path = path_by_chance(step, one.contact_id, walk.journey.salt)
    return Move(one.id, dict(flat.first_of)[path], at, path)


def _do(
    session: orm.Session,
    walk: Walk,
    flat: Flat,
    people: list[Due],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
    url: str,
) -> list[Move]:
    """Does one step at which nobody waits for a time, for all who are on it; says where they go
    from there now."""
    step = flat.step
    if isinstance(step, MessageStep):
        _ask(session, walk.journey, step, people, now, url)
        return []
    if isinstance(step, WebhookStep):
        told = [(one.id, one.arrived_at) for one in people]
        calling.ask(session, walk.journey.id, step, told, now)
        return []
    if isinstance(step, BranchStep):
        return _branch(session, flat, step, people, now, zone)
    if isinstance(step, SplitStep):
        return [_by_chance(walk, flat, step, one, one.arrived_at) for one in people]
    if isinstance(step, TaskStep):
        _give_tasks(session, walk, step, people, now, zone)
    elif isinstance(step, TellStep):
        entries = {one.id: one.contact_id for one in people}
        wordings.tell_colleagues(session, walk.journey, step, entries, now, zone)
    elif isinstance(step, ChangeStep):
        changing.change(session, step, walk.journey, _came(people), now, zone)
    elif not isinstance(step, GoalStep):
        because = "jumped" if isinstance(step, JumpStep) else "exit"
        return [Move(one.id, END, one.arrived_at, because) for one in people]
    return [Move(one.id, flat.next, one.arrived_at, "done") for one in people]


def _taken_out(
    session: orm.Session, walk: Walk, people: list[Due], now: dt.datetime, zone: zoneinfo.ZoneInfo
) -> Collection[int]:
    """Takes out whoever is one of those that an exit rule takes out, although nobody has looked
    since they became so, say after an outage; gives their entries."""
    rules = [one for one in walk.itinerary.exits if one.who]
    if not rules:
        return ()
    moment, out = Moment(session, dictionary(session), now, zone), dict[int, str]()
    for rule in reversed(rules):
        meant = _among(moment, rule.who, {one.contact_id for one in people})
        out |= {one.id: rule.id for one in people if one.contact_id in meant}
    move(session, [Move(ident, END, now, rule, "left") for ident, rule in out.items()])
    return out.keys()


def _ask(
    session: orm.Session,
    journey: Journey,
    step: MessageStep,
    people: Sequence[Due],
    now: dt.datetime,
    url: str,
) -> None:
    """Asks for the message that each is to get: of a step that lost some since, the last."""
    # Who is here twice, with two subjects, gets the second one in the next portion.
    first = {one.contact_id: one for one in reversed(people)}
    by_message: dict[int, list[tuple[int, int]]] = {}
    for one in first.values():
        message = step.messages[min(one.attempt, len(step.instead))]
        by_message.setdefault(message, []).append((one.id, one.contact_id))
    for message, entries in by_message.items():
        sending.ask(session, journey, step, message, entries, now, url)


def _came(people: Sequence[Due]) -> list[changing.Came]:
    """Whoever came to a step, with the zone that they have."""
    return [changing.Came(one.contact_id, one.timezone) for one in people]


def _wait(
    session: orm.Session,
    flat: Flat,
    step: WaitStep,
    people: list[Due],
    now: dt.datetime,
    until: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> list[Move]:
    """Each goes on once their time is up, up to a moment. It is worked out from the rule each time
    that somebody is looked at: what it goes by may have changed."""
    days: dict[int, dt.date] = {}
    if step.date:
        moment = Moment(session, dictionary(session), now, zone)
        days = days_of(moment, step.date, [one.contact_id for one in people])
    moves, rest = [], []
    for one in people:
        clock = zone_of(one.timezone) or zone
        over = wait_until(step, one.arrived_at, clock, days.get(one.contact_id))
        over = over and one.at_most(over, one.arrived_at)
        # Whoever waits for a date that was changed meanwhile, so that its moment is past by now.
        changed = one.phase == "waiting" and step.date and over != one.due
        if over is None or (changed and over <= until):
            at = now if one.phase == "waiting" else one.arrived_at
            out = step.past == "exit"
            to = END if out else flat.next
            moves.append(Move(one.id, to, at, "past", "left" if out else ""))
        elif over <= until:
            moves.append(Move(one.id, flat.next, over, "time"))
        else:
            rest.append((one.id, over))
    stay(session, "waiting", rest)
    return moves


def _branch(
    session: orm.Session,
    flat: Flat,
    step: BranchStep,
    people: list[Due],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> list[Move]:
    """Each goes by the first path that is for them now."""
    first, left = dict(flat.first_of), list(people)
    taken: dict[int, str] = {}
    moment = Moment(session, dictionary(session), now, zone)
    said = _details(session, step, people)
    for path in step.paths[:-1]:
        # One person can be here twice, by two events that say different things.
        some = [one for one in left if not path.detail or holds(path, said[one.id])]
        if path.who or not path.detail:
            inside = _among(moment, path.who, {one.contact_id for one in some})
            some = [one for one in some if one.contact_id in inside]
        taken |= dict.fromkeys((one.id for one in some), path.id)
        left = [one for one in left if one.id not in taken]
    taken |= dict.fromkeys((one.id for one in left), step.paths[-1].id)
    chosen = [(one, taken[one.id]) for one in people]
    return [Move(one.id, first[path], one.arrived_at, path) for one, path in chosen]


def _details(
    session: orm.Session, step: BranchStep, people: Sequence[Due]
) -> dict[int, dict[str, Any] | None]:
    """What the event said that brought each entry in, where a path asks that."""
    if not any(path.detail for path in step.paths):
        return {}
    asked = sa.select(JourneyEntry.id, JourneyEntry.details)
    found = session.execute(asked.where(JourneyEntry.id.in_([one.id for one in people])))
    return dict(found.tuples().all())


def _among(moment: Moment, who: Who, contacts: set[int]) -> set[int]:
    """Who of some contacts is meant; nobody where that is gone or has an error."""
    if not who:
        return set()
    try:
        return set(members(moment, who, contacts))
    except Invalid:
        return set()


def _wait_for(
    session: orm.Session,
    flat: Flat,
    step: WaitForStep,
    people: list[Due],
    until: dt.datetime,
    about: str,
) -> list[Move]:
    """Each goes by what happened first since they came, or by the last path once the time is up,
    up to a moment. Of events that have the detail `about` only those count that are about their
    subject."""
    first, length = dict(flat.first_of), step.span.length()
    ends = until + dt.timedelta(microseconds=1)
    over_at = {one.id: one.at_most(one.arrived_at + length, one.arrived_at) for one in people}
    rows = [
        {
            "id": one.id,
            "contact": one.contact_id,
            "since": one.arrived_at.isoformat(),
            "until": min(over_at[one.id], ends).isoformat(),
            "delivery": one.sent_delivery,
            "subject": one.subject,
        }
        for one in people
    ]
    happened: dict[int, tuple[dt.datetime, bool, int]] = {}
    for name, asked in (("event", _EVENTS), ("reaction", _REACTIONS)):
        kinds = [
            {"place": place, name: getattr(path, name), "link": path.link}
            for place, path in enumerate(step.paths[:-1])
            if getattr(path, name)
        ]
        if not kinds:
            continue
        values = {"rows": orjson.dumps(rows).decode(), "kinds": orjson.dumps(kinds).decode()}
        if name == "event":
            values["about"] = about
        for ident, place, at in session.execute(sa.text(asked), values):
            # Of what happens at once the one link counts before any link.
            did = (at, not step.paths[place].link, place)
            happened[ident] = min(happened.get(ident, did), did)
    moves, rest = [], []
    for one in people:
        over = over_at[one.id]
        if one.id in happened:
            at, _, place = happened[one.id]
            path = step.paths[place]
            moves.append(Move(one.id, first[path.id], at, path.id))
        elif over <= until:
            last = step.paths[-1]
            moves.append(Move(one.id, first[last.id], over, last.id))
        else:
            rest.append((one.id, over))
    stay(session, "awaiting", rest)
    return moves


def _give_tasks(
    session: orm.Session,
    walk: Walk,
    step: TaskStep,
    people: list[Due],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> None:
    """Gives one task for each person and each time that they come here."""
    wanted = Wanted(
        step.what,
        step.priority,
        step.due.length(),
        step.to or (named(session, walk.journey.started_by),),
        "journey",
        walk.journey.id,
        step.id,
    )
    entries = {one.id: one.contact_id for one in people}
    words = wordings.filled(session, walk.journey, step.subject, entries, now, zone)
    tried = sending.testing(session, entries)
    given = [
        Given(
            one.contact_id,
            f"journey:{one.id}:{step.id}:{one.arrived_at.isoformat()}",
            Wording("Test: %(subject)s", subject=words[one.id])
            if one.id in tried
            else words[one.id],
        )
        for one in people
    ]
    give(session, now, now.astimezone(zone).date(), wanted, given)
