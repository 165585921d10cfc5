"""Who comes into a journey: by what happens, by a segment when it starts, by hand. Starts that are
refused are counted with their reason."""

import dataclasses
import datetime as dt
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.core.journeys.chance import in_control
from meadowrun.core.journeys.details import number_of
from meadowrun.core.journeys.flat import END
from meadowrun.core.journeys.steps import TOO_LATE
from meadowrun.core.language import Wording
from meadowrun.journeys.moves import Move
from meadowrun.journeys.walks import Walk

#: Two starts of one person within this time are one.
TWICE = dt.timedelta(minutes=10)
#: Nobody who tries it.
NO_TESTERS: Mapping[int, int | None] = {}
#: Why a start is refused, in words.
REFUSALS = {
    "late": Wording("reported more than %(hours)s hours after it happened", hours=TOO_LATE),
    "inside": Wording("already inside"),
    "before": Wording("were in it before"),
    "twice": Wording("the same start twice"),
    "gone": Wording("no contact any more"),
    "not_one": Wording("not one of those who can come in"),
    "elsewhere": Wording("inside another journey that keeps them out"),
    "full": Wording("the journey was full"),
}

#: What becomes of starts, in the order in which they happened: who comes in, and why others do not.
#: The place tells several of one person apart: only the first can come in. Testers come in again as
#: often as they like.
_ENTER = """
WITH given AS (
    SELECT row_number() OVER (PARTITION BY v.contact, v.subject ORDER BY v.at) AS place, v.*
    FROM jsonb_to_recordset(CAST(:rows AS jsonb))
        AS v(contact bigint, at timestamptz, details jsonb, refused text, subject text,
            control boolean, start text, tester boolean, most_wait int)),
before AS (
    SELECT e.contact_id, e.subject, max(e.began_at) AS last, max(e.ended_at) AS ended,
        bool_or(e.state = 'inside') AS inside
    FROM journey_entries e WHERE e.journey_id = :journey AND e.lane = :lane
    AND e.contact_id IN (SELECT contact FROM given) GROUP BY 1, 2),
judged AS (
    SELECT g.place, g.contact, g.at, g.details, g.subject, g.start,
        g.tester OR t.contact_id IS NOT NULL AS tester,
        CASE WHEN t.contact_id IS NULL THEN g.most_wait ELSE t.most_wait END AS most_wait,
        g.control AND NOT g.tester AND t.contact_id IS NULL AS control, CASE
        WHEN g.refused IS NOT NULL THEN g.refused
        WHEN g.place > 1 THEN 'twice'
        WHEN t.contact_id IS NULL AND NOT g.tester
            AND abs(extract(epoch FROM g.at - b.last)) < :twice THEN 'twice'
        WHEN b.inside OR b.ended > g.at THEN 'inside'
        WHEN t.contact_id IS NULL AND NOT g.tester
            AND b.last IS NOT NULL AND (CAST(:again AS text) = 'once'
            OR :again = 'after' AND g.at < b.last + make_interval(days => :days)) THEN 'before'
        WHEN c.id IS NULL THEN 'gone'
        WHEN EXISTS (SELECT 1 FROM journey_entries o WHERE o.contact_id = g.contact
            AND o.state = 'inside' AND o.journey_id = ANY(:not_while)) THEN 'elsewhere'
    END AS refused
    FROM given g LEFT JOIN before b ON b.contact_id = g.contact AND b.subject = g.subject
    LEFT JOIN contacts c ON c.id = g.contact
    LEFT JOIN journey_testers t ON t.journey_id = :journey AND t.contact_id = g.contact),
numbered AS (
    SELECT j.*, count(*) FILTER (WHERE refused IS NULL AND NOT tester)
        OVER (ORDER BY at, contact, place ROWS UNBOUNDED PRECEDING) AS n
    FROM judged j),
placed AS (
    SELECT n.*, coalesce(refused, CASE WHEN n > CAST(:room AS bigint) AND NOT tester
            THEN 'full' END) AS kept_out,
        CASE WHEN tester OR CAST(:gap AS interval) IS NULL THEN at
            ELSE CAST(:turn AS timestamptz) + (n - 1) * CAST(:gap AS interval) END AS turn
    FROM numbered n),
entered AS (
    INSERT INTO journey_entries (journey_id, contact_id, began_at, step, arrived_at, phase, due,
        details, subject, control, start, lane, tester, most_wait)
    SELECT :journey, contact, at, :first, turn, 'due', turn, details, subject, control, start,
        :lane, tester, most_wait
    FROM placed WHERE kept_out IS NULL
    ORDER BY at, contact
    ON CONFLICT (journey_id, contact_id, lane, subject) WHERE state = 'inside' DO NOTHING
    RETURNING id, arrived_at, tester),
logged AS (
    INSERT INTO journey_moves (entry_id, at, from_step, to_step, because)
    SELECT id, arrived_at, '', :first, :because FROM entered),
refusals AS (
    INSERT INTO journey_refusals (journey_id, because, times)
    SELECT :journey, kept_out, count(*) FROM placed WHERE kept_out IS NOT NULL AND NOT tester
    GROUP BY 2
    ON CONFLICT (journey_id, because)
        DO UPDATE SET times = journey_refusals.times + excluded.times)
SELECT count(*) AS people, count(*) FILTER (WHERE NOT tester) AS counted FROM entered
"""
#: How many are inside, testers aside.
_INSIDE = """
SELECT count(*) FROM journey_entries
WHERE journey_id = :journey AND state = 'inside' AND NOT tester
"""
#: Gives everybody who was not looked at yet since they came another turn, in the order of theirs.
_TURNS = """
WITH turns AS (
    SELECT e.id, CAST(:turn AS timestamptz) + (row_number() OVER (ORDER BY e.arrived_at, e.id) - 1)
        * coalesce(CAST(:gap AS interval), interval '0') AS turn
    FROM journey_entries e
    WHERE e.journey_id = :journey AND e.state = 'inside' AND e.phase = 'due' AND NOT e.tester
    AND e.arrived_at > e.began_at
    AND NOT EXISTS (SELECT 1 FROM journey_moves m WHERE m.entry_id = e.id AND m.from_step <> '')),
moved AS (
    UPDATE journey_moves m SET at = t.turn FROM turns t WHERE m.entry_id = t.id),
placed AS (
    UPDATE journey_entries e SET arrived_at = t.turn, due = t.turn FROM turns t
    WHERE e.id = t.id RETURNING 1)
SELECT count(*) FROM placed
"""
#: What happened up to a moment and was not looked at yet, the oldest first: it is taken away.
_HEARD = """
DELETE FROM heard WHERE id IN (SELECT id FROM heard WHERE at <= :until ORDER BY at, id LIMIT :most
    FOR UPDATE SKIP LOCKED)
RETURNING contact_id, kind_id, at, details, noted_at
"""
#: The moment of the first that happened and was not looked at yet.
_FIRST_HEARD = "SELECT min(at) FROM heard"
#: The moment at which somebody did a second thing, among the oldest that were not looked at yet;
#: the first of all where a journey is full at so many people, since who comes in may depend on
#: everybody then.
_SECOND = """
SELECT CASE WHEN EXISTS (
    SELECT 1 FROM journeys j
    JOIN journey_editions e ON e.journey_id = j.id AND e.number = j.edition
    WHERE j.state = 'running' AND (e.itinerary #>> '{door,most_inside}')::int > 0)
    THEN min(at) ELSE min(at) FILTER (WHERE place > 1) END
FROM (
    SELECT at, row_number() OVER (PARTITION BY contact_id ORDER BY at, id) AS place
    FROM (SELECT id, contact_id, at FROM heard ORDER BY at, id LIMIT :most) oldest) placed
"""
#: Has those looked at who wait for something, as of the first that they did: {contact, at}.
_WAKE = """
UPDATE journey_entries e SET due = greatest(w.at, e.arrived_at)
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS w(contact bigint, at timestamptz)
WHERE e.contact_id = w.contact AND e.phase = 'awaiting' AND e.due > w.at
"""
#: Notes that people reached the goal, within its time, by the first of what is looked at together;
#: what brought them in is not it.
_GOAL = """
UPDATE journey_entries e SET goal_at = f.at, goal_amount = f.amount
FROM (
    SELECT DISTINCT ON (i.id) i.id, v.at, v.amount
    FROM jsonb_to_recordset(CAST(:rows AS jsonb))
        AS v(contact bigint, at timestamptz, subject text, amount numeric)
    JOIN journey_entries i ON i.journey_id = :journey AND i.contact_id = v.contact
    WHERE i.goal_at IS NULL AND (v.subject = '' OR i.subject IN ('', v.subject))
        AND i.began_at < v.at AND v.at < i.began_at + make_interval(days => :days)
    ORDER BY i.id, v.at) f
WHERE e.id = f.id
RETURNING e.id, e.state, e.step, e.arrived_at, e.goal_at
"""


#: Who is inside and did something since they came in: entry and the first such moment. What is told
#: late happens to them on the step that they are on by then, not before they came to it.
_LEAVES = """
WITH inside AS (
    SELECT e.id, e.contact_id, e.began_at, e.arrived_at, e.subject FROM journey_entries e
    JOIN jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, at timestamptz)
        ON e.contact_id = v.contact
    WHERE e.journey_id = :journey AND e.state = 'inside' FOR UPDATE OF e)
SELECT i.id, greatest(min(v.at), min(i.arrived_at)) FROM inside i
JOIN jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, at timestamptz, subject text)
    ON i.contact_id = v.contact AND v.at > i.began_at
    AND (v.subject = '' OR i.subject IN ('', v.subject))
GROUP BY 1
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Happened:
    """Something that was heard: of which kind (None: a reaction), when, and when we were told."""

    contact_id: int
    kind_id: int | None
    at: dt.datetime
    details: Any
    noted_at: dt.datetime

    def subject(self, key: str) -> str:
        """What it is about, by the detail that tells subjects apart; empty where it says nothing of
        that, or nothing tells them apart."""
        found = self.details.get(key) if key and isinstance(self.details, dict) else None
        return "" if found is None else str(found)[:100]

    def amount(self, key: str) -> str | None:
        """How much it brought, by the detail that says so; None where it says no number."""
        found = self.details.get(key) if key and isinstance(self.details, dict) else None
        number = None if found is None or isinstance(found, bool) else number_of(str(found))
        return None if number is None else str(number)

    @property
    def late(self) -> bool:
        """Whether it is told too late to start anything."""
        return self.noted_at - self.at > dt.timedelta(hours=TOO_LATE)


def first_heard(session: orm.Session) -> dt.datetime | None:
    """The moment of the first that happened and was not looked at yet; None where there is
    nothing."""
    found: dt.datetime | None = session.execute(sa.text(_FIRST_HEARD)).scalar()
    return found


def second_heard(session: orm.Session, most: int) -> dt.datetime | None:
    """Up to when what happened, of `most` things at the most, is of different people, so that none
    of it depends on what came of the other; None where all of it is."""
    found: dt.datetime | None = session.execute(sa.text(_SECOND), {"most": most}).scalar()
    return found


def heard(session: orm.Session, until: dt.datetime, most: int) -> list[Happened]:
    """Takes what happened up to a moment and was not looked at yet, the oldest first."""
    values = {"until": until, "most": most}
    found = [Happened(*row) for row in session.execute(sa.text(_HEARD), values)]
    return sorted(found, key=lambda one: one.at)


def enter(
    session: orm.Session,
    walk: Walk,
    starts: Sequence[Happened],
    because: str,
    among: Collection[int] | None = None,
    by: str = "",
    lane: str = "",
    testers: Mapping[int, int | None] = NO_TESTERS,
) -> int:
    """Brings people in, as far as the journey lets them; says how many. Where `among` is given,
    only those are taken in; `by` is the start that brings them in, else they come into `lane`.
    `testers` says who of them tries it without being a tester of this journey, and how long each
    of their waits may take, in seconds."""
    lane = next((one.lane for one in walk.itinerary.starts if one.id == by), lane)
    first = walk.first.get(lane, END)
    if not starts or first == END:
        return 0
    goal = walk.itinerary.goal
    compared = goal.control if goal else 0
    rows = [
        {
            "contact": one.contact_id,
            "at": one.at.isoformat(),
            "details": one.details,
            "control": in_control(one.contact_id, compared, walk.journey.salt),
            "refused": _refused(one, among),
            "subject": one.subject(walk.itinerary.subject),
            "start": by,
            "tester": one.contact_id in testers,
            "most_wait": testers.get(one.contact_id),
        }
        for one in starts
    ]
    gap, turn, room = _at_the_door(session, walk)
    values = {
        "rows": orjson.dumps(rows).decode(),
        "journey": walk.journey.id,
        "first": first,
        "lane": lane,
        "because": because,
        "again": walk.itinerary.again,
        "days": walk.itinerary.again_days,
        "twice": TWICE.total_seconds(),
        "not_while": list(walk.itinerary.door.not_while),
        "gap": gap,
        "turn": turn,
        "room": room,
    }
    entered = session.execute(sa.text(_ENTER), values).one()
    if gap and turn:
        walk.journey.door_free_at = turn + entered.counted * gap
    return int(entered.people)


def _gap(walk: Walk) -> dt.timedelta | None:
    """The time between two people who come in; None where they come as they like."""
    hourly = walk.itinerary.door.hourly
    return dt.timedelta(hours=1) / hourly if hourly else None


def _at_the_door(
    session: orm.Session, walk: Walk
) -> tuple[dt.timedelta | None, dt.datetime | None, int | None]:
    """The time between two people who come in, whose turn comes when, and for how many more there
    is room; None where there is no limit. The journey is locked where there is one."""
    gap, most = _gap(walk), walk.itinerary.door.most_inside
    if not gap and not most:
        return None, None, None
    journey = walk.journey
    session.refresh(journey, ["door_free_at"], with_for_update=True)
    now = clock.now(session)
    room = None
    if most:
        asked = session.execute(sa.text(_INSIDE), {"journey": journey.id})
        room = most - int(asked.scalar_one())
    return gap, max(journey.door_free_at or now, now) if gap else None, room


def give_turns(session: orm.Session, walk: Walk, now: dt.datetime) -> int:
    """Has those who wait their turn to come in wait as long as the journey says by now; says how
    many there are."""
    gap = _gap(walk)
    values = {"journey": walk.journey.id, "turn": now, "gap": gap}
    people = int(session.execute(sa.text(_TURNS), values).scalar_one())
    walk.journey.door_free_at = now + people * gap if gap else None
    return people


def _refused(start: Happened, among: Collection[int] | None) -> str | None:
    """Why a start brings nobody in, as far as it says so itself."""
    if start.late:
        return "late"
    return "not_one" if among is not None and start.contact_id not in among else None


def leave(
    session: orm.Session, walk: Walk, happened: Mapping[str, Sequence[Happened]]
) -> list[tuple[int, dt.datetime, str]]:
    """Who leaves because of what happened, given by the key of its kind: entry, moment and the
    rule, locked. What was before they came in takes nobody out."""
    found = {}
    for rule in reversed(walk.itinerary.exits):
        rows = [
            {
                "contact": one.contact_id,
                "at": one.at.isoformat(),
                "subject": one.subject(walk.itinerary.subject),
            }
            for one in happened.get(rule.event, ())
        ]
        if rule.event and rows:
            values = {"rows": orjson.dumps(rows).decode(), "journey": walk.journey.id}
            for ident, at in session.execute(sa.text(_LEAVES), values):
                found[ident] = (ident, at, rule.id)
    return list(found.values())


def wake(session: orm.Session, happened: Sequence[Happened]) -> None:
    """Has those looked at who wait for something to happen and did something now."""
    first: dict[int, dt.datetime] = {}
    for one in happened:
        first[one.contact_id] = min(one.at, first.get(one.contact_id, one.at))
    rows = [{"contact": contact, "at": at.isoformat()} for contact, at in first.items()]
    if rows:
        session.execute(sa.text(_WAKE), {"rows": orjson.dumps(rows).decode()})


def reach_goal(session: orm.Session, walk: Walk, happened: Sequence[Happened]) -> list[Move]:
    """Notes who reached the goal, and what it brought. Gives the moves of those whom it takes out
    of the journey, or past other steps."""
    goal = walk.itinerary.goal
    if goal is None or not happened:
        return []
    rows = [
        {
            "contact": one.contact_id,
            "at": one.at.isoformat(),
            "subject": one.subject(walk.itinerary.subject),
            "amount": one.amount(goal.amount),
        }
        for one in happened
    ]
    values = {
        "rows": orjson.dumps(rows).decode(),
        "journey": walk.journey.id,
        "days": goal.days,
    }
    found = session.execute(sa.text(_GOAL), values).all()
    # What is told late happens to them on the step that they are on by then.
    inside = [(row, max(row.goal_at, row.arrived_at)) for row in found if row.state == "inside"]
    if goal.ends:
        return [Move(row.id, END, at, "goal", "left") for row, at in inside]
    past = walk.lifts
    return [Move(row.id, past[row.step], at, "goal") for row, at in inside if row.step in past]
