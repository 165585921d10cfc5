"""The share that has reached something, against a published example and by hand."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.results.reached import Seen, reached

#: Weeks in remission of 21 patients with 6-MP (Freireich and others 1963, in Cox and Oakes:
#: Analysis of Survival Data, 1984, table 1.1): (weeks, relapsed).
REMISSION = [
    *[(6, True)] * 3,
    (6, False),
    (7, True),
    (9, False),
    (10, True),
    (10, False),
    (11, False),
    (13, True),
    (16, True),
    *[(17, False), (19, False), (20, False)],
    (22, True),
    (23, True),
    *[(25, False), (32, False), (32, False), (34, False), (35, False)],
]
#: The estimate of the share still in remission, as published.
PUBLISHED = {6: 0.857, 7: 0.807, 10: 0.753, 13: 0.690, 16: 0.627, 22: 0.538, 23: 0.448}


def test_the_published_example():
    found = reached([Seen(week, did, 1) for week, did in REMISSION])
    assert found.people == 21
    for week, still in PUBLISHED.items():
        assert 1 - found.by(week) == pytest.approx(still, abs=0.0006)


#: Between which shares those still in remission lie in 95 of 100 cases, as published (D. G.
#: Kleinbaum, M. Klein: Survival Analysis, 2012, chapter 2, from the same patients).
PUBLISHED_BOUNDS = {
    6: (0.6197, 0.9516),
    7: (0.5631, 0.9228),
    10: (0.5032, 0.8894),
    13: (0.4316, 0.8491),
    16: (0.3675, 0.8049),
    22: (0.2678, 0.7468),
    23: (0.1881, 0.6801),
}


@pytest.mark.parametrize(("week", "bounds"), PUBLISHED_BOUNDS.items())
def test_the_published_bounds(week, bounds):
    """As they were known in that week: what came later is cut off."""
    until = [Seen(min(on, week), did and on <= week, 1) for on, did in REMISSION]
    low, high = reached(until).bounds
    assert (1 - high, 1 - low) == pytest.approx(bounds, abs=0.0002)


@pytest.mark.parametrize("seen", [[], [Seen(3, False, 9)], [Seen(3, True, 9)]])
def test_where_nobody_or_everybody_reached_it_no_bounds_are_said(seen):
    assert reached(seen).bounds is None


def test_without_anybody_it_is_nothing():
    found = reached([])
    assert (found.people, found.share, found.half) == (0, 0.0, None)


def test_half_of_those_who_reach_it():
    # Of ten people two reach it on day 1 and two on day 9; all were looked at for ten days.
    found = reached([Seen(1, True, 2), Seen(9, True, 2), Seen(10, False, 6)])
    assert found.share == pytest.approx(0.4) and found.half == 1
    assert found.by(8) == pytest.approx(0.2)


@given(st.lists(st.tuples(st.integers(0, 30), st.integers(1, 50)), min_size=1))
def test_where_everybody_was_looked_at_to_the_end_it_is_the_plain_share(did):
    never = 40
    seen = [Seen(day, True, people) for day, people in did] + [Seen(31, False, never)]
    total = sum(people for _, people in did)
    assert reached(seen).share == pytest.approx(total / (total + never))
