"""What is done at each kind of step, for all who are on it."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.details import holds
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.steps import (
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
from meadowrun.journeys.models import Journey, JourneyEntry
from meadowrun.journeys.moves import Move, stay
from meadowrun.journeys.walks import Walk
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.shell.telling import named
from meadowrun.tasks.actions import Given, Wanted, give

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


def do(
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
        return [by_chance(walk, flat, step, one, one.arrived_at) for one in people]
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


def by_chance(walk: Walk, flat: Flat, step: SplitStep, one: Due, at: dt.datetime) -> Move:
    """Where a random split takes somebody."""
    path = path_by_chance(step, one.contact_id, walk.journey.salt)
    return Move(one.id, dict(flat.first_of)[path], at, path)


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


def wait(
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
            inside = among(moment, path.who, {one.contact_id for one in some})
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


def among(moment: Moment, who: Who, contacts: set[int]) -> set[int]:
    """Who of some contacts is meant; nobody where that is gone or has an error."""
    if not who:
        return set()
    try:
        return set(members(moment, who, contacts))
    except Invalid:
        return set()


def wait_for(
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
