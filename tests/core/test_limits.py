"""Audience limits, control groups and what sending was worth: published tables, sums by hand, and
rules."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.guardrails import limits
from meadowrun.core.guardrails.limits import (
    ControlGroup,
    control_words,
    limit_words,
    stopped_by,
    under,
)
from meadowrun.core.guardrails.outcomes import FINAL, OUTCOMES
from meadowrun.core.guardrails.verdict import Facts, verdict
from meadowrun.core.results.worth import Group, least_gain, wilson, worth


# Newcombe 1998, "Interval estimation for the difference between independent proportions", table II,
# method 10.
@pytest.mark.parametrize(
    ("one", "two", "low", "high"),
    [
        ((56, 70), (48, 80), 0.0524, 0.3339),
        ((9, 10), (3, 10), 0.1705, 0.8090),
        ((6, 7), (2, 7), 0.0582, 0.8062),
        ((5, 56), (0, 29), -0.0381, 0.1926),
        ((0, 10), (0, 20), -0.1611, 0.2775),
        ((0, 10), (0, 10), -0.2775, 0.2775),
        ((10, 10), (0, 20), 0.6791, 1.0000),
        ((10, 10), (0, 10), 0.6075, 1.0000),
    ],
)
def test_a_difference_of_shares(one, two, low, high):
    made = worth(Group(one[1], one[0]), Group(two[1], two[0]))
    assert (made.low, made.high) == (pytest.approx(low, abs=5e-5), pytest.approx(high, abs=5e-5))
    assert made.sure == (low > 0)


# Newcombe 1998, "Two-sided confidence intervals for the single proportion", table I, method 3.
@pytest.mark.parametrize(
    ("good", "people", "low", "high"),
    [
        (81, 263, 0.2553, 0.3662),
        (15, 148, 0.0624, 0.1605),
        (0, 20, 0.0, 0.1611),
        (1, 29, 0.0061, 0.1718),
    ],
)
def test_a_share(good, people, low, high):
    assert wilson(Group(people, good)) == (
        pytest.approx(low, abs=5e-5),
        pytest.approx(high, abs=5e-5),
    )


@given(st.integers(1, 5000), st.integers(1, 5000), st.data())
def test_the_truth_of_the_sample_lies_inside_and_changing_sides_turns_the_sign(n, m, data):
    one, two = Group(n, data.draw(st.integers(0, n))), Group(m, data.draw(st.integers(0, m)))
    made, turned = worth(one, two), worth(two, one)
    assert (
        -1 <= made.low <= made.gain <= made.high <= 1
        or made.low == pytest.approx(made.gain)
        or made.high == pytest.approx(made.gain)
    )
    assert (made.low, made.high) == (pytest.approx(-turned.high), pytest.approx(-turned.low))


def test_what_it_brought_and_groups_of_nobody():
    # 30 of 100 against 10 of 50: ten points, which of 100 people are ten.
    made = worth(Group(100, 30), Group(50, 10))
    assert (made.gain, made.more) == (pytest.approx(0.1), pytest.approx(10))
    assert wilson(Group(0, 0)) == (0.0, 1.0) and not worth(Group(0, 0), Group(10, 5)).sure
    # Worse than saying nothing is told as surely as better.
    assert (
        worth(Group(1000, 10), Group(1000, 90)).high < 0
        and worth(Group(1000, 10), Group(1000, 90)).sure
    )


def test_how_small_a_gain_would_show():
    # (1.96 + 0.8416)² · (0.05 · 0.95 + 0.10 · 0.90) / 0.05² = 431.7: with 432 people a side, 5 %
    # against 10 % just shows.
    assert least_gain(0.05, 432, 432) == pytest.approx(0.05, abs=2e-4)
    # Four times as many people halve it, nearly: the share itself moves the spread a little.
    assert least_gain(0.30, 4000, 4000) == pytest.approx(least_gain(0.30, 1000, 1000) / 2, rel=0.03)
    assert (
        least_gain(0.05, 0, 100) is None
        and least_gain(0.05, 100, 0) is None
        and least_gain(0.9, 3, 3) is None
    )


@given(st.floats(0.01, 0.6), st.integers(50, 20_000), st.integers(50, 20_000))
def test_more_people_show_smaller_gains(usual, written, held):
    now, more = least_gain(usual, written, held), least_gain(usual, written, held * 2)
    assert now is None or more is not None and more <= now + 1e-9


@pytest.mark.parametrize(
    ("going", "most", "rule", "gets", "over"),
    [
        (10, None, "some", 10, 0),
        (10, 10, "some", 10, 0),
        (11, 10, "some", 10, 1),
        (9, 10, "stop", 9, 0),
        (11, 10, "stop", 11, 0),
        (0, 5, "some", 0, 0),
    ],
)
def test_a_ceiling(going, most, rule, gets, over):
    assert under(going, most, rule) == (gets, over)


def test_a_limit_that_stops_says_why():
    assert stopped_by(1482, 1000, "stop").startswith(
        "1,482 people would get it, and the audience limit is 1,000. Raise it"
    )
    assert (
        stopped_by(1000, 1000, "stop")
        == stopped_by(1482, 1000, "some")
        == stopped_by(1482, None, "stop")
        == ""
    )


def test_in_words():
    assert [
        control_words(ControlGroup.of(k), "Guests")
        for k in ({}, {"percent": 10.0}, {"percent": 2.5}, {"list": 3}, {"segment": 4})
    ] == [
        "no control group",
        "a control group of 10%, picked at random",
        "a control group of 2.5%, picked at random",
        "everyone in Guests as the control group",
        "everyone in Guests as the control group",
    ]
    assert limit_words(None, "some") == "everyone who may get it"
    assert limit_words(1000, "some") == "at most 1,000 people, picked at random"
    assert limit_words(1, "stop") == "at most 1 person; if more may get it, nothing is sent"
    assert set(limits.LIMIT_RULES) == {"some", "stop"}


def test_who_is_held_back_would_have_got_it():
    """The control group changes "go" and nothing else: who could not get it is no comparison."""
    good = Facts(True, True, False, False, None, True)
    assert verdict(good._replace(control=True)).outcome == "control"
    for changed in (
        {"has_address": False},
        {"address_usable": False},
        {"suppressed": True},
        {"bounced": True},
        {"channel_consent": None},
        {"channel_consent": False},
        {"repeated_address": True},
    ):
        facts = good._replace(**changed)
        assert verdict(facts._replace(control=True)).outcome == verdict(facts).outcome != "go"
    assert {"control", "over_limit"} <= set(OUTCOMES) & FINAL
