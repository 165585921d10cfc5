"""The most messages within some days, held against counting them one by one."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.journeys.crowding import most_within

messages = st.lists(st.tuples(st.integers(0, 4), st.integers(-50, 50)), max_size=30)


def counted(found, span, since):
    """Everybody's most, by a plain count of each time that ends with a message."""
    most = {}
    for who, end in found:
        if end < since:
            continue
        within = sum(other == who and end - span < at <= end for other, at in found)
        most[who] = max(within, most.get(who, 0))
    return most


@given(messages, st.integers(1, 40), st.integers(-20, 20))
def test_it_is_what_a_plain_count_gives(found, span, since):
    whose = np.array([who for who, _ in found], np.int64)
    at = np.array([moment for _, moment in found], float)
    people, most = most_within(whose, at, span, since)
    assert dict(zip(people.tolist(), most.tolist(), strict=True)) == counted(found, span, since)


@pytest.mark.parametrize(
    ("at", "since", "most"),
    [
        # Monday, Tuesday, and the Monday after: seven days later to the minute is another week.
        ([0, 1440, 10080], 0, 2),
        ([0, 1440, 10079], 0, 3),
        # What was long before counts only with what comes.
        ([-9000, -8999, -8998, 0], 0, 4),
        ([-90000, -89999, 0], 0, 1),
        ([-90000], 0, None),
    ],
)
def test_a_week(at, since, most):
    people, found = most_within(np.full(len(at), 7), np.array(at, float), 10080, since)
    assert found.tolist() == ([] if most is None else [most])
    assert people.tolist() == ([] if most is None else [7])
