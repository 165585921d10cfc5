"""The numbers of journeys, counted from who is on them and from the log of their moves alone."""

import collections
import decimal

import sqlalchemy as sa

from meadowrun.journeys import figures
from meadowrun.journeys.figures import Here

ENTRIES = """
SELECT lane, start, step, state, because, arrived_at, goal_at, goal_amount FROM journey_entries
WHERE journey_id = :id AND NOT tester
"""
MOVES = """
SELECT m.from_step, m.to_step, m.because, e.state FROM journey_moves m
JOIN journey_entries e ON e.id = m.entry_id
WHERE e.journey_id = :id AND NOT e.tester AND m.from_step <> ''
"""


def agree(session, ident):
    """Holds what the database keeps against what is counted one by one; gives the numbers."""
    kept = figures.numbers(session, ident)
    entries = session.execute(sa.text(ENTRIES), {"id": ident}).all()
    inside = [one for one in entries if one.state == "inside"]
    left = collections.Counter(one.because for one in entries if one.state == "left")
    stand = kept.stand
    assert (stand.inside, stand.left) == (len(inside), dict(left))
    assert stand.entered == len(entries)
    assert stand.reached == sum(one.goal_at is not None for one in entries)
    assert stand.amount == sum((one.goal_amount or 0 for one in entries), decimal.Decimal())
    assert kept.came == collections.Counter(one.start for one in entries)
    of_lane = collections.Counter(one.lane for one in entries)
    assert {lane: one.entered for lane, one in kept.lanes.items()} == of_lane
    arrived = collections.defaultdict(list)
    for one in inside:
        arrived[one.step].append(one.arrived_at)
    assert kept.here == {step: Here(len(at), min(at)) for step, at in arrived.items()}
    went, out = collections.defaultdict(collections.Counter), collections.Counter()
    for one in session.execute(sa.text(MOVES), {"id": ident}):
        went[one.from_step][one.because] += 1
        out[one.from_step] += not one.to_step and one.state == "left"
    assert kept.went == went
    assert {step: people for step, people in kept.out.items() if people} == {
        step: people for step, people in out.items() if people
    }
    return kept
