"""What is read of journeys: their names and numbers, who is where, and one person's way."""

import dataclasses
import datetime as dt
import decimal
from collections import Counter
from collections.abc import Collection, Sequence

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.db import existing
from meadowrun.base.kept import Kept
from meadowrun.campaigns.models import Campaign
from meadowrun.core.channels import KINDS
from meadowrun.core.journeys.reading import from_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    Itinerary,
    Parting,
    Start,
    messages_before,
)
from meadowrun.core.journeys.words import Names
from meadowrun.core.results.reached import Reached, Seen, reached
from meadowrun.core.results.worth import Group, Worth, worth
from meadowrun.core.values import email_key
from meadowrun.journeys.models import (
    Journey,
    JourneyDraft,
    JourneyEdition,
    JourneyEntry,
    JourneyMove,
    JourneyRefusal,
)
from meadowrun.messages.models import Message
from meadowrun.messages.queries import links_of
from meadowrun.people.models import Contact, EventKind, PeopleList, Topic
from meadowrun.people.queries import dictionary
from meadowrun.scores.models import Score
from meadowrun.segments.models import Segment
from meadowrun.shell.models import User
from meadowrun.tags.queries import paths


def journey(session: orm.Session, ident: int) -> Journey:
    """One journey. Raises NotFound."""
    return existing(session, Journey, ident, "journey")


def of_campaign(session: orm.Session, campaign_id: int) -> list[Journey]:
    """The journeys of a campaign, the oldest first."""
    asked = sa.select(Journey).where(Journey.campaign_id == campaign_id).order_by(Journey.id)
    return list(session.scalars(asked))


#: Journeys on which people are and that nobody looks after who still works here.
_NOBODYS = """
SELECT j.id FROM journeys j WHERE j.state IN ('running', 'winding_down', 'paused')
AND EXISTS (SELECT 1 FROM users u WHERE NOT u.active AND u.name = j.started_by)
AND NOT EXISTS (SELECT 1 FROM users u WHERE u.active AND u.name = j.started_by) ORDER BY j.name
"""


def nobodys(session: orm.Session) -> list[Journey]:
    """Journeys that run and whose owner was deactivated."""
    return [session.get_one(Journey, ident) for ident in session.scalars(sa.text(_NOBODYS))]


def all_journeys(session: orm.Session) -> list[Journey]:
    """Every journey: those that run first, then by name."""
    order = sa.case(
        {"running": 0, "winding_down": 1, "paused": 2, "draft": 3, "ended": 4}, value=Journey.state
    )
    return list(session.scalars(sa.select(Journey).order_by(order, Journey.name)))


def of_segment(session: orm.Session, segment_id: int) -> list[Journey]:
    """The journeys that have not ended and speak of a segment, as they are walked or written."""
    open_ones = session.scalars(
        sa.select(Journey).where(Journey.state != "ended").order_by(Journey.id)
    )
    return [
        one
        for one in open_ones
        if any(
            segment_id in segments_of(itinerary)
            for itinerary in (draft(session, one), walked(session, one))
            if itinerary is not None
        )
    ]


def segments_of(itinerary: Itinerary) -> set[int]:
    """The saved segments that an itinerary speaks of."""
    asked = [one.who for one in itinerary.starts] + [one.who for one in itinerary.exits]
    for step, _, _ in itinerary.walk():
        if isinstance(step, BranchStep):
            asked += [path.who for path in step.paths]
    found = {one.segment for one in asked}
    for one in asked:
        found |= {line["segment"] for line in one.lines if line.get("kind") == "segment"}
    return found - {0}


def said_to(session: orm.Session, message_id: int) -> list[tuple[str, str]]:
    """What the events say that start the journeys in which a message goes, as they are walked or
    written: key and label of each detail, each once."""
    words = dictionary(session)
    found: dict[str, str] = {}
    open_ones = sa.select(Journey).where(Journey.state != "ended").order_by(Journey.id)
    for one in session.scalars(open_ones):
        for itinerary in (draft(session, one), walked(session, one)):
            if itinerary is None or message_id not in itinerary.messages():
                continue
            kinds = [words.event(key) for key in sorted(itinerary.starting_events())]
            found |= {detail.key: detail.label for kind in kinds if kind for detail in kind.details}
    return list(found.items())


#: So many people inside of a journey are counted where a glance is enough.
MOST_COUNTED = 10_000
#: Running journeys, the newest first: number, name, state, how many are inside, counted up to so
#: many, and whether it has a goal.
_ON_THEIR_WAY = """
SELECT j.id, j.name, j.state, j.problem, (SELECT count(*) FROM (SELECT 1 FROM journey_entries e
    WHERE e.journey_id = j.id AND e.state = 'inside' AND NOT e.tester LIMIT :most) x) AS inside,
    (SELECT coalesce(jsonb_typeof(d.itinerary->'goal') = 'object', FALSE) FROM journey_editions d
    WHERE d.journey_id = j.id AND d.number = j.edition) AS aims
FROM journeys j WHERE j.state IN ('running', 'winding_down', 'paused')
ORDER BY j.started_at DESC LIMIT :journeys
"""


@dataclasses.dataclass(frozen=True, slots=True)
class OnTheirWay:
    """A journey that people are on, and how many, up to MOST_COUNTED."""

    id: int
    name: str
    state: str
    problem: str
    inside: int
    #: it has a goal
    aims: bool

    @property
    def many(self) -> bool:
        """Whether they are more than were counted."""
        return self.inside > MOST_COUNTED


def on_their_way(session: orm.Session, journeys: int) -> list[OnTheirWay]:
    """So many of the journeys that people are on, the newest first."""
    values = {"most": MOST_COUNTED + 1, "journeys": journeys}
    return [OnTheirWay(*row) for row in session.execute(sa.text(_ON_THEIR_WAY), values)]


#: Of each journey that people are on: how many came in, and how many reached the goal, within the
#: last seven days and within the seven before.
_WEEKS = """
SELECT journey_id, count(*) FILTER (WHERE what = 'in' AND at > :week) AS came,
    count(*) FILTER (WHERE what = 'in' AND at <= :week) AS came_before,
    count(*) FILTER (WHERE what = 'goal' AND at > :week) AS reached,
    count(*) FILTER (WHERE what = 'goal' AND at <= :week) AS reached_before
FROM (
    SELECT journey_id, 'in' AS what, began_at AS at FROM journey_entries
    WHERE began_at > :since AND began_at <= :now AND NOT tester
    UNION ALL
    SELECT journey_id, 'goal', goal_at FROM journey_entries
    WHERE goal_at > :since AND goal_at <= :now AND NOT tester) x
GROUP BY journey_id
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Week:
    """How many came into a journey, and how many reached its goal, within seven days and within the
    seven before."""

    came: int = 0
    came_before: int = 0
    reached: int = 0
    reached_before: int = 0


#: Weeks by journey, as they were a minute ago at most.
_weeks: Kept[dict[int, Week]] = Kept(60.0)


def weeks(session: orm.Session, now: dt.datetime, walked: Sequence[OnTheirWay]) -> dict[int, Week]:
    """The last week of each journey into which anybody came, by its number; counted anew at once
    where as many as before are not on those that are `walked`."""
    week = dt.timedelta(days=7)
    values = {"now": now, "week": now - week, "since": now - 2 * week}

    def count() -> dict[int, Week]:
        found = session.execute(sa.text(_WEEKS), values)
        return {ident: Week(*numbers) for ident, *numbers in found}

    return _weeks.get(session, tuple(walked), now, count)[0]


def count_by_campaign(session: orm.Session) -> dict[int, int]:
    """How many journeys each campaign has."""
    asked = sa.select(Journey.campaign_id, sa.func.count()).group_by(Journey.campaign_id)
    return dict(session.execute(asked).tuples().all())


def running_by_campaign(session: orm.Session) -> dict[int, list[tuple[str, str]]]:
    """The journeys of each campaign that people are on: name and path."""
    asked = sa.select(Journey).where(Journey.state.in_(("running", "winding_down", "paused")))
    found: dict[int, list[tuple[str, str]]] = {}
    for one in session.scalars(asked.order_by(Journey.name)):
        found.setdefault(one.campaign_id, []).append((one.name, f"/journeys/{one.id}"))
    return found


def draft(session: orm.Session, found: Journey) -> Itinerary:
    """The itinerary as it is written now."""
    return from_json(session.get_one(JourneyDraft, (found.id, found.draft)).itinerary)


def walked(session: orm.Session, found: Journey) -> Itinerary | None:
    """The itinerary that people walk; None before it was started."""
    if found.edition is None:
        return None
    return from_json(session.get_one(JourneyEdition, (found.id, found.edition)).itinerary)


def links_before(session: orm.Session, itinerary: Itinerary) -> dict[str, dict[str, str]]:
    """For each step that waits for something the links of the messages that may have gone before
    it, the nearest ones first: address → what it is called."""
    before = messages_before(itinerary)
    asked = sa.select(Message).where(Message.id.in_(set[int]().union(*before.values())))
    links = {one.id: links_of(session, one) for one in session.scalars(asked)}
    return {
        step: {href: label for number in numbers for href, label in links.get(number, {}).items()}
        for step, numbers in before.items()
    }


#: Since when a start brings people in: since the first edition after the last one without it.
_START_SINCE = """
SELECT min(at) FROM journey_editions WHERE journey_id = :journey AND number > coalesce((
    SELECT max(number) FROM journey_editions
    WHERE journey_id = :journey AND NOT itinerary -> 'starts' @> CAST(:start AS jsonb)), 0)
"""


def start_since(session: orm.Session, found: Journey, start: Start) -> dt.datetime:
    """Since when a start of a journey that was started brings people in: one that starts by
    something else by now is another."""
    said = {
        key: value
        for key in ("id", "how", "event", "date", "rhythm", "first")
        if (value := getattr(start, key))
    }
    values = {"journey": found.id, "start": orjson.dumps([said]).decode()}
    since: dt.datetime = session.execute(sa.text(_START_SINCE), values).scalar_one()
    return since


def beginning(itinerary: Itinerary, before: Itinerary | None) -> list[Start]:
    """The starts that bring people in as soon as an itinerary is started, and did not already:
    `before` is what was walked."""
    known = before.starts if before else ()
    return [
        one for one in itinerary.starts if (one.how == "everyone" or one.back) and one not in known
    ]


def names(session: orm.Session) -> Names:
    """What everything is called that an itinerary can speak of."""
    messages = session.execute(sa.select(Message.id, Message.name, Message.channel))
    return Names(
        messages={
            ident: (name, KINDS[channel].name[:1].upper() + KINDS[channel].name[1:])
            for ident, name, channel in messages
        },
        segments=dict(session.execute(sa.select(Segment.id, Segment.name)).tuples().all()),
        events=_events(session),
        tags=paths(session),
        lists=dict(session.execute(sa.select(PeopleList.id, PeopleList.name)).tuples().all()),
        topics=dict(session.execute(sa.select(Topic.id, Topic.name)).tuples().all()),
        scores=dict(session.execute(sa.select(Score.id, Score.name)).tuples().all()),
        colleagues=dict(session.execute(_COLLEAGUES).tuples().all()),
        journeys=dict(session.execute(_OPEN_ONES).tuples().all()),
        words=dictionary(session),
        today=clock.now(session).date(),
    )


_COLLEAGUES = sa.select(User.id, User.name).where(User.active)
_OPEN_ONES = sa.select(Journey.id, Journey.name).where(Journey.state != "ended")


def _events(session: orm.Session) -> dict[str, str]:
    """What people did, by the key of its kind: those that are offered, by all keys that they
    have."""
    kinds = session.scalars(sa.select(EventKind).where(~EventKind.retired))
    return {key: kind.did for kind in kinds for key in (kind.key, *kind.aka)}


#: People of some journeys by how they stand, testers never counted: journey, lane, state, reason,
#: how many, how many of them reached the goal, and what that brought.
_STANDS = """
SELECT journey_id, lane, state, because, count(*) AS people, count(goal_at) AS reached,
    coalesce(sum(goal_amount), 0) AS amount
FROM journey_entries WHERE journey_id = ANY(:ids) AND NOT tester GROUP BY 1, 2, 3, 4
"""
#: People by what brought them in: start, how many.
_CAME = """
SELECT start, count(*) FROM journey_entries WHERE journey_id = :id AND NOT tester GROUP BY 1
"""
#: People who are on each step now: step, how many, the one who came first.
_HERE = """
SELECT step, count(*) AS people, min(arrived_at) AS first FROM journey_entries
WHERE journey_id = :id AND state = 'inside' AND NOT tester GROUP BY 1
"""
#: Moves away from each step: step, reason, how many, and how many of them left before the end.
_WENT = """
SELECT m.from_step, m.because, count(*) AS people,
    count(*) FILTER (WHERE m.to_step = '' AND e.state = 'left') AS out
FROM journey_moves m JOIN journey_entries e ON e.id = m.entry_id
WHERE e.journey_id = :id AND NOT e.tester AND m.from_step <> '' GROUP BY 1, 2
"""
#: What people did with the messages of each step on each channel: step, channel, sent, opened,
#: clicked.
_DID = """
SELECT j.step, s.channel, count(*) FILTER (WHERE d.outcome IN ('delivered', 'in_doubt')) AS sent,
    count(*) FILTER (WHERE r.opened) AS opened, count(*) FILTER (WHERE r.clicked) AS clicked
FROM journey_dispatches j JOIN dispatches s ON s.id = j.dispatch_id
JOIN deliveries d ON d.dispatch_id = s.id AND d.taken_at = s.taken_at
LEFT JOIN LATERAL (
    SELECT bool_or(x.kind = 'opened') AS opened, bool_or(x.kind = 'clicked') AS clicked
    FROM reactions x WHERE x.contact_id = d.contact_id AND x.delivery = d.number
    AND NOT x.machine AND x.kind IN ('opened', 'clicked')) r ON TRUE
WHERE j.journey_id = :id AND NOT j.tester GROUP BY 1, 2
"""


#: Tasks that each step gave: step, how many, how many of these are done.
_TASKS = """
SELECT k.step, count(*), count(*) FILTER (WHERE k.state = 'done') FROM colleague_tasks k
LEFT JOIN journey_entries e ON e.id = split_part(k.about, ':', 2)::bigint
WHERE k.source = 'journey' AND k.source_id = :id AND e.tester IS NOT TRUE GROUP BY 1
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Stand:
    """Everybody who ever came in, each under exactly one."""

    inside: int
    finished: int
    #: reason → how many left before the end
    left: dict[str, int]
    #: how many reached the goal, and what that brought
    reached: int
    amount: decimal.Decimal = decimal.Decimal(0)

    @property
    def entered(self) -> int:
        return self.inside + self.finished + sum(self.left.values())

    def __add__(self, other: "Stand") -> "Stand":
        """Both together."""
        return Stand(
            self.inside + other.inside,
            self.finished + other.finished,
            dict(Counter(self.left) + Counter(other.left)),
            self.reached + other.reached,
            self.amount + other.amount,
        )


NOBODY = Stand(0, 0, {}, 0)


@dataclasses.dataclass(frozen=True, slots=True)
class Here:
    """Who is on a step now, and since when the first of them."""

    people: int = 0
    first: dt.datetime | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Did:
    """What people did with some messages."""

    sent: int = 0
    opened: int = 0
    clicked: int = 0

    def __add__(self, other: "Did") -> "Did":
        """Both together."""
        return Did(self.sent + other.sent, self.opened + other.opened, self.clicked + other.clicked)


@dataclasses.dataclass(frozen=True)
class Numbers:
    """All numbers of a journey."""

    stand: Stand
    here: dict[str, Here]
    #: step → reason → how many went on from it
    went: dict[str, dict[str, int]]
    #: step → how many left from it before the end
    out: dict[str, int]
    did: dict[str, Did]
    #: channel → what people did with all messages on it
    channels: dict[str, Did]
    #: step → how many tasks it gave, and how many of these are done
    tasks: dict[str, tuple[int, int]]
    refused: dict[str, int]
    #: which of its starts → how many came in by it; empty key: by hand, or from another journey
    came: dict[str, int]
    #: lane → everybody who ever came into it
    lanes: dict[str, Stand]

    def passed(self, step: str) -> int:
        """How many came to a step: those on it, and those who went on."""
        return self.here.get(step, Here()).people + sum(self.went.get(step, {}).values())

    def on(self, step: str) -> int:
        """How many went on from a step, or came to the end by it."""
        return sum(self.went.get(step, {}).values()) - self.out.get(step, 0)

    def by(self, step: str, path: str) -> int:
        """How many went on from a step by a path."""
        return self.went.get(step, {}).get(path, 0)


#: Who is in a journey and waits their turn to begin: how many, and when the last one's comes.
_AT_DOOR = """
SELECT count(*), max(arrived_at) FROM journey_entries
WHERE journey_id = :id AND state = 'inside' AND NOT tester AND arrived_at > :now
"""


@dataclasses.dataclass(frozen=True, slots=True)
class AtDoor:
    """How many wait their turn to begin, and when the last one's comes."""

    people: int
    last: dt.datetime | None


def at_door(session: orm.Session, ident: int, now: dt.datetime) -> AtDoor:
    """Who waits their turn, where a journey takes in so many within an hour."""
    return AtDoor(*session.execute(sa.text(_AT_DOOR), {"id": ident, "now": now}).one())


def stands(session: orm.Session, idents: Collection[int]) -> dict[int, Stand]:
    """How everybody stands who ever came into some journeys, by journey."""
    by_lane = _stands(session, idents)
    return {ident: sum(by_lane[ident].values(), NOBODY) for ident in idents}


def _stands(session: orm.Session, idents: Collection[int]) -> dict[int, dict[str, Stand]]:
    """The same by journey and lane; a lane that nobody ever came into is missing."""
    found: dict[int, dict[str, Stand]] = {ident: {} for ident in idents}
    for row in session.execute(sa.text(_STANDS), {"ids": list(idents)}):
        some = Stand(
            row.people if row.state == "inside" else 0,
            row.people if row.state == "finished" else 0,
            {row.because: row.people} if row.state == "left" else {},
            row.reached,
            row.amount,
        )
        mine = found[row.journey_id]
        mine[row.lane] = mine.get(row.lane, NOBODY) + some
    return found


def numbers(session: orm.Session, ident: int) -> Numbers:
    """What became of everybody on a journey."""
    values = {"id": ident}
    went: dict[str, dict[str, int]] = {}
    out: dict[str, int] = {}
    for step, because, people, gone in session.execute(sa.text(_WENT), values):
        went.setdefault(step, {})[because] = people
        out[step] = out.get(step, 0) + gone
    did: dict[str, Did] = {}
    channels: dict[str, Did] = {}
    for row in session.execute(sa.text(_DID), values):
        one = Did(row.sent, row.opened, row.clicked)
        did[row.step] = did.get(row.step, Did()) + one
        channels[row.channel] = channels.get(row.channel, Did()) + one
    refusals = sa.select(JourneyRefusal).where(JourneyRefusal.journey_id == ident)
    by_lane = _stands(session, [ident])[ident]
    return Numbers(
        sum(by_lane.values(), NOBODY),
        {row.step: Here(row.people, row.first) for row in session.execute(sa.text(_HERE), values)},
        went,
        out,
        did,
        channels,
        {step: (given, done) for step, given, done in session.execute(sa.text(_TASKS), values)},
        {row.because: row.times for row in session.scalars(refusals)},
        dict(session.execute(sa.text(_CAME), values).tuples().all()),
        by_lane,
    )


#: Everybody who ever came in, by how many days after that they reached the goal, or how long they
#: were looked at for it: path that they took, or the lane that they came into (as of_lane says;
#: empty: everybody), day, whether, how many.
_GOAL_BY_DAY = """
WITH seen AS (
    SELECT e.id, e.lane, e.goal_at IS NOT NULL AS reached,
        floor(extract(epoch FROM coalesce(e.goal_at,
        least(CAST(:now AS timestamptz), e.began_at + make_interval(days => :days))) - e.began_at)
        / 86400) AS day
    FROM journey_entries e
    WHERE e.journey_id = :id AND NOT e.tester AND e.because NOT IN ('erased', 'merged'))
SELECT '' AS path, day, reached, count(*) AS people FROM seen GROUP BY 2, 3
UNION ALL
SELECT 'lane ' || lane, day, reached, count(*) FROM seen GROUP BY 1, 2, 3
UNION ALL
SELECT m.because, s.day, s.reached, count(DISTINCT s.id)
FROM seen s JOIN journey_moves m ON m.entry_id = s.id AND m.because = ANY(:paths) GROUP BY 1, 2, 3
"""


def of_lane(lane: str) -> str:
    """By which a lane is told from a path where the share that reaches the goal is asked."""
    return f"lane {lane}"


def goal_reached(
    session: orm.Session, ident: int, itinerary: Itinerary, now: dt.datetime
) -> dict[str, Reached]:
    """The share that reaches the goal, over days: of everybody (empty key), by the path that they
    took, and by lane (as `of_lane` says); whoever came in lately counts as long as they were looked
    at."""
    if itinerary.goal is None:
        return {}
    paths = [
        path.id
        for step, _, _ in itinerary.walk()
        if isinstance(step, Parting)
        for path in step.paths
    ]
    values = {"id": ident, "now": now, "days": itinerary.goal.days, "paths": paths}
    seen: dict[str, list[Seen]] = {}
    for path, day, did, people in session.execute(sa.text(_GOAL_BY_DAY), values):
        seen.setdefault(path, []).append(Seen(int(day), did, people))
    return {path: reached(of) for path, of in seen.items()}


#: People who ever came in, by whether they are of the control group: how many, and how many of
#: them reached the goal. Somebody who came in several times counts once, as at the first time.
_COMPARED = """
SELECT control, count(*) AS people, count(*) FILTER (WHERE reached) AS reached
FROM (
    SELECT (array_agg(control ORDER BY id))[1] AS control, bool_or(goal_at IS NOT NULL) AS reached
    FROM journey_entries
    WHERE journey_id = :id AND NOT tester AND because NOT IN ('erased', 'merged')
    GROUP BY contact_id) x
GROUP BY 1
"""


def compared(session: orm.Session, ident: int) -> Worth | None:
    """The goal of those who got the messages against the control group's; None where either is
    empty."""
    rows = session.execute(sa.text(_COMPARED), {"id": ident})
    groups = {row.control: Group(row.people, row.reached) for row in rows}
    return worth(groups[False], groups[True]) if len(groups) == 2 else None


def entries_of(session: orm.Session, contact_id: int) -> list[tuple[JourneyEntry, Journey]]:
    """Where a contact is or was, the latest first."""
    asked = (
        sa.select(JourneyEntry, Journey)
        .join(Journey, Journey.id == JourneyEntry.journey_id)
        .where(JourneyEntry.contact_id == contact_id)
        .order_by(JourneyEntry.id.desc())
    )
    return [(row[0], row[1]) for row in session.execute(asked)]


def channels_of(session: orm.Session, messages: set[int]) -> dict[int, str]:
    """The channel of each of some messages that are there."""
    asked = sa.select(Message.id, Message.channel).where(Message.id.in_(messages))
    return dict(session.execute(asked).tuples().all())


def has_draft(session: orm.Session, ident: int, number: int) -> bool:
    """Whether a journey has a draft of a number."""
    return session.get(JourneyDraft, (ident, number)) is not None


def campaign_names(session: orm.Session) -> dict[int, str]:
    """The name of each campaign."""
    return dict(session.execute(sa.select(Campaign.id, Campaign.name)).tuples().all())


def contact_at(session: orm.Session, address: str) -> Contact | None:
    """The contact with an email address."""
    key = email_key(address)
    return session.scalar(sa.select(Contact).where(Contact.email_key == key).limit(1))


def contacts_of(session: orm.Session, entries: Sequence[JourneyEntry]) -> dict[int, Contact]:
    """The contacts of some entries, by number; whoever was erased is missing."""
    numbers = {one.contact_id for one in entries}
    return {
        one.id: one for one in session.scalars(sa.select(Contact).where(Contact.id.in_(numbers)))
    }


def entry(session: orm.Session, journey_id: int, contact_id: int) -> JourneyEntry | None:
    """The last time that a contact was in a journey."""
    return session.scalar(
        sa.select(JourneyEntry)
        .where(JourneyEntry.journey_id == journey_id, JourneyEntry.contact_id == contact_id)
        .order_by(JourneyEntry.id.desc())
        .limit(1)
    )


def entries_by_number(session: orm.Session, idents: Collection[int]) -> dict[int, JourneyEntry]:
    """Some entries, by number."""
    asked = sa.select(JourneyEntry).where(JourneyEntry.id.in_(idents))
    return {one.id: one for one in session.scalars(asked)}


def entries(session: orm.Session, journey_id: int, contact_id: int) -> list[JourneyEntry]:
    """Every time that a contact was or is in a journey, the latest first."""
    asked = sa.select(JourneyEntry).where(
        JourneyEntry.journey_id == journey_id, JourneyEntry.contact_id == contact_id
    )
    return list(session.scalars(asked.order_by(JourneyEntry.id.desc())))


def moves(session: orm.Session, entry_id: int) -> list[JourneyMove]:
    """Every move of an entry, in order."""
    asked = sa.select(JourneyMove).where(JourneyMove.entry_id == entry_id)
    return list(session.scalars(asked.order_by(JourneyMove.id)))


#: So many people of a step are shown.
MOST_SHOWN = 200


def people_on(
    session: orm.Session, ident: int, step: str | None, state: str, most: int = MOST_SHOWN
) -> list[JourneyEntry]:
    """Who is on a step now, or stands otherwise; who came first comes first."""
    asked = sa.select(JourneyEntry).where(
        JourneyEntry.journey_id == ident, JourneyEntry.state == state, ~JourneyEntry.tester
    )
    if step is not None:
        asked = asked.where(JourneyEntry.step == step)
    return list(
        session.scalars(asked.order_by(JourneyEntry.arrived_at, JourneyEntry.id).limit(most))
    )
