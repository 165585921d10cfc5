"""Numbers of everyone from a sample: against published intervals, and against chance itself."""

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pyroaring import BitMap

from meadowrun.core.audience.estimate import Sample, scaled, shares
from meadowrun.core.audience.sieve import Sieve, Step

#: Hits, of how many, and the interval of Clopper and Pearson as textbooks' tables give it.
PUBLISHED = [
    (10, 100, 0.0490, 0.1762),
    (5, 10, 0.1871, 0.8129),
    (0, 30, 0.0, 0.1157),
    (30, 30, 0.8843, 1.0),
    (1, 20, 0.0013, 0.2487),
    (50, 100, 0.3983, 0.6017),
]


@pytest.mark.parametrize(("hits", "of", "low", "high"), PUBLISHED)
def test_the_interval_is_the_published_one(hits, of, low, high):
    assert shares(hits, of) == pytest.approx((low, high), abs=0.00006)


def test_the_true_number_lies_inside_95_of_100_times():
    luck = random.Random(24)
    people, inside, tries = 50_000, 0, 400
    for _ in range(tries):
        matching = int(people * luck.choice([0.001, 0.02, 0.2, 0.6, 0.99]))
        # Who matches is the first so many; a sample without putting back finds some of them.
        hits = sum(n < matching for n in luck.sample(range(people), 2_000))
        low, high = Sample(2_000, people).between(hits)
        inside += low <= matching <= high
    assert inside >= 0.95 * tries


@given(st.integers(1, 3_000), st.integers(0, 10_000), st.data())
def test_a_range_holds_what_was_seen_and_no_more_than_there_are(sampled, more, data):
    hits = data.draw(st.integers(0, sampled))
    sample = Sample(sampled, sampled + more)
    low, high = sample.between(hits)
    assert hits <= low <= high <= sampled + more - (sampled - hits)


def test_a_sample_of_everyone_is_exact():
    assert Sample(500, 500).between(123) == (123, 123) and Sample(500, 500).about(123) == 123


def test_an_estimate_has_no_digits_that_mean_nothing():
    # 700 of 20,000 are 3.5 %, give or take a quarter of a point: thousands of a million.
    assert Sample(20_000, 1_000_000).about(703) == 35_000


def test_a_sample_never_says_that_two_lines_never_meet():
    steps = (Step("a", 100, 50, 50, False), Step("b", 50, 0, 3, False))
    found = scaled(
        Sieve(100, steps, {"a": 50, "b": 3}, {"a": 3, "b": 50}, (("a", "b"),), BitMap(), 0),
        Sample(100, 10_000),
    )
    assert found.everyone == 10_000 and found.clashes == () and found.steps[0].kept == 5_000
