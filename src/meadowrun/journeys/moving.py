"""Moves people along journeys, thousands at a time: each step is done for all who are on it.

`core/journeys/engine.py` is the judge of what is done here; a property test holds the two equal.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Collection, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.journeys.flat import END
from meadowrun.core.journeys.steps import (
    OUTWARD,
    GoalStep,
    JumpStep,
    SplitStep,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.journeys.waits import wait_until
from meadowrun.core.timing.zones import zone_of
from meadowrun.journeys.doing import Due, among, by_chance, do, wait, wait_for
from meadowrun.journeys.models import MOVES, Journey
from meadowrun.journeys.moves import Move, move
from meadowrun.journeys.walks import Walk
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary

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
            made = wait(session, flat, flat.step, people, now, until, zone)
        elif isinstance(flat.step, WaitForStep):
            made = wait_for(session, flat, flat.step, people, until, walk.itinerary.subject)
        else:
            made = do(session, walk, flat, people, now, zone, url)
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
            made.append(by_chance(walk, flat, step, one, last.at))
        elif isinstance(step, GoalStep):
            made.append(Move(one.id, flat.next, last.at, "done"))
        else:
            break
    return made


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
        meant = among(moment, rule.who, {one.contact_id for one in people})
        out |= {one.id: rule.id for one in people if one.contact_id in meant}
    move(session, [Move(ident, END, now, rule, "left") for ident, rule in out.items()])
    return out.keys()
