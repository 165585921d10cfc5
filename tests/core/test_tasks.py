"""Who gets the next task."""

import datetime as dt

from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.tasks import next_in_turn

NOON = dt.datetime(2026, 11, 30, 12, tzinfo=dt.UTC)
NOBODY = frozenset()


def test_turns_go_on_where_they_were():
    assert next_in_turn([3, 1, 2], NOBODY, {}, 5) == [3, 1, 2, 3, 1]
    last = {3: NOON, 1: NOON + dt.timedelta(hours=1)}
    assert next_in_turn([3, 1, 2], NOBODY, last, 3) == [2, 3, 1]


def test_whoever_is_away_is_left_out():
    assert next_in_turn([3, 1, 2], frozenset({1}), {}, 4) == [3, 2, 3, 2]
    assert next_in_turn([3], frozenset({3}), {}, 2) == []
    assert next_in_turn([], NOBODY, {}, 2) == []


@given(
    st.lists(st.integers(1, 9), min_size=1, max_size=6),
    st.frozensets(st.integers(1, 9)),
    st.integers(0, 40),
)
def test_nobody_gets_more_than_one_more_than_another(colleagues, away, most):
    found = next_in_turn(colleagues, away, {}, most)
    here = set(colleagues) - away
    assert set(found) <= here and len(found) == (most if here else 0)
    if found:
        counts = [found.count(one) for one in here]
        assert max(counts) - min(counts) <= 1
