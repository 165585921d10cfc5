"""What journeys did, in numbers: who is where, what was sent and done, and who reached the goal."""

import dataclasses
import datetime as dt
import decimal
from collections import Counter
from collections.abc import Collection

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.journeys.steps import (
    Itinerary,
    Parting,
)
from meadowrun.core.results.reached import Reached, Seen, reached
from meadowrun.core.results.worth import Group, Worth, worth
from meadowrun.journeys.models import (
    JourneyRefusal,
)

#: People of some journeys by how they stand, testers never counted: journey, lane, state, reason,
#: how many, how many of them reached the goal, and what that brought.
_STANDS = """
SELECT journey_id, lane, state, because, sum(people)::bigint AS people,
    sum(reached)::bigint AS reached, sum(amount) AS amount
FROM journey_counts WHERE journey_id = ANY(:ids) GROUP BY 1, 2, 3, 4 HAVING sum(people) <> 0
"""
#: People by what brought them in: start, how many.
_CAME = """
SELECT start, sum(people)::bigint FROM journey_counts
WHERE journey_id = :id GROUP BY 1 HAVING sum(people) <> 0
"""
#: People who are on each step now: step, how many, the one who came first.
_HERE = """
SELECT h.step, h.people, e.arrived_at AS first
FROM (
    SELECT step, sum(people)::bigint AS people FROM journey_counts
    WHERE journey_id = :id AND state = 'inside' GROUP BY 1 HAVING sum(people) <> 0) h
LEFT JOIN LATERAL (
    SELECT o.arrived_at FROM journey_entries o
    WHERE o.journey_id = :id AND o.step = h.step AND o.state = 'inside' AND NOT o.tester
    ORDER BY o.arrived_at LIMIT 1) e ON TRUE
"""
#: Moves away from each step: step, reason, how many, and how many of them left before the end.
_WENT = """
SELECT step, because, sum(people)::bigint AS people, sum(out)::bigint AS out
FROM journey_went WHERE journey_id = :id AND step <> '' GROUP BY 1, 2
"""
#: What people did with the messages of each step on each channel: step, channel, sent, opened,
#: clicked.
_DID = """
WITH mine AS (
    SELECT j.step, s.channel, s.id, s.taken_at
    FROM journey_dispatches j JOIN dispatches s ON s.id = j.dispatch_id
    WHERE j.journey_id = :id AND NOT j.tester)
SELECT step, channel, sum(sent)::bigint AS sent, sum(opened)::bigint AS opened,
    sum(clicked)::bigint AS clicked
FROM (
    SELECT m.step, m.channel, count(*) AS sent, 0 AS opened, 0 AS clicked
    FROM mine m JOIN deliveries d ON d.dispatch_id = m.id AND d.taken_at = m.taken_at
    WHERE d.outcome IN ('delivered', 'in_doubt') GROUP BY 1, 2
    UNION ALL
    SELECT m.step, m.channel, 0, count(DISTINCT r.delivery) FILTER (WHERE r.kind = 'opened'),
        count(DISTINCT r.delivery) FILTER (WHERE r.kind = 'clicked')
    FROM mine m JOIN reactions r ON r.dispatch_id = m.id
    WHERE NOT r.machine AND r.kind IN ('opened', 'clicked') GROUP BY 1, 2) x
GROUP BY 1, 2
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
    #: step → channel → what people did with its messages on it
    did: dict[str, dict[str, Did]]
    #: channel → what people did with all messages on it
    channels: dict[str, Did]
    #: step → how many tasks it gave, and how many of these are done
    tasks: dict[str, tuple[int, int]]
    refused: dict[str, int]
    #: which of its starts → how many came in by it; empty key: by hand, or from another journey
    came: dict[str, int]
    #: lane → everybody who ever came into it
    lanes: dict[str, Stand]

    def sent(self, step: str) -> int:
        """How many messages of a step were sent, on any channel."""
        return sum(one.sent for one in self.did.get(step, {}).values())

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


#: What was added to the numbers of a journey, put together where that is more than so many rows.
_STANDS_TOGETHER = """
WITH gone AS (
    DELETE FROM journey_counts WHERE journey_id IN (
        SELECT journey_id FROM journey_counts GROUP BY 1 HAVING count(*) > :most)
    RETURNING *)
INSERT INTO journey_counts (journey_id, lane, start, step, state, because, people, reached, amount)
SELECT journey_id, lane, start, step, state, because, sum(people), sum(reached), sum(amount)
FROM gone GROUP BY 1, 2, 3, 4, 5, 6
HAVING sum(people) <> 0 OR sum(reached) <> 0 OR sum(amount) <> 0
"""
_WENT_TOGETHER = """
WITH gone AS (
    DELETE FROM journey_went WHERE journey_id IN (
        SELECT journey_id FROM journey_went GROUP BY 1 HAVING count(*) > :most)
    RETURNING *)
INSERT INTO journey_went (journey_id, step, because, people, out)
SELECT journey_id, step, because, sum(people), sum(out) FROM gone GROUP BY 1, 2, 3
"""


def add_up(session: orm.Session, most: int) -> None:
    """Puts together what was added to the numbers of journeys that have more than so many rows of
    it: they say the same as before."""
    for statement in (_STANDS_TOGETHER, _WENT_TOGETHER):
        session.execute(sa.text(statement), {"most": most})


def numbers(session: orm.Session, ident: int) -> Numbers:
    """What became of everybody on a journey."""
    values = {"id": ident}
    went: dict[str, dict[str, int]] = {}
    out: dict[str, int] = {}
    for step, because, people, gone in session.execute(sa.text(_WENT), values):
        went.setdefault(step, {})[because] = people
        out[step] = out.get(step, 0) + gone
    did: dict[str, dict[str, Did]] = {}
    channels: dict[str, Did] = {}
    for row in session.execute(sa.text(_DID), values):
        one = Did(row.sent, row.opened, row.clicked)
        did.setdefault(row.step, {})[row.channel] = one
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
