"""The hour at which each person reacts most: profiles, their order, and the moment that a chosen
hour means."""

import datetime as dt
import zoneinfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.timing.best_hours import (
    HOURS,
    Habits,
    open_hours,
    ranked,
    share_near,
    single_best,
)
from meadowrun.core.timing.hours import WEEKDAYS, Hours
from meadowrun.core.timing.moments import Moments

LONDON = zoneinfo.ZoneInfo("Europe/London")
NEW_YORK = zoneinfo.ZoneInfo("America/New_York")


def counted(*people):
    """People × hours from {hour: times} of each."""
    found = np.zeros((len(people), HOURS))
    for row, hours in zip(found, people, strict=True):
        for hour, times in hours.items():
            row[hour] = times
    return found


def two_kinds():
    """Two hundred people of the morning (7 to 9) and a hundred of the evening (20 to 22)."""
    dice = np.random.default_rng(7)
    mornings = [{7: 3, 8: 5, 9: 2} for _ in range(200)]
    evenings = [{20: 3, 21: 5, 22: 2} for _ in range(100)]
    found = counted(*mornings, *evenings)
    dice.shuffle(found)
    return found


@pytest.mark.parametrize(
    ("hours", "best"),
    [
        # Whoever is well known is known by their own reactions, whatever others do.
        ({3: 40}, 3),
        ({13: 12, 14: 20, 15: 12}, 14),
        # One reaction says which kind somebody is of; the hour is that of the kind.
        ({9: 1}, 8),
        ({20: 1}, 21),
        # Nothing is known: what most people do.
        ({}, 8),
    ],
)
def test_few_reactions_are_drawn_towards_people_like_them(hours, best):
    habits = Habits.learn(two_kinds())
    assert ranked(habits.of(counted(hours)))[0, 0] == best


def test_nobody_has_reacted_yet():
    habits = Habits.learn(np.zeros((5, HOURS)))
    profiles = habits.of(np.zeros((2, HOURS)))
    assert np.allclose(profiles, 1 / HOURS)
    assert ranked(profiles)[0].tolist() == list(range(HOURS))
    assert share_near(np.zeros((2, HOURS)), np.array([3, 4])) == 0.0


def test_the_clock_goes_round():
    """Reactions at 23 and at 0 are neighbours: with three an hour, midnight lies in the middle."""
    counts = counted({23: 3, 0: 3, 1: 3, 12: 4})
    assert single_best(counts) == 0


def test_the_share_near_an_hour():
    """Of ten reactions three fall into the chosen hour, and two into the one after it; the last
    hour is followed by the first."""
    counts = counted({8: 3, 9: 2, 12: 3}, {23: 1, 0: 1})
    assert share_near(counts, np.array([8, 23])) == pytest.approx(0.7)


@given(
    st.lists(st.lists(st.integers(0, 9), min_size=HOURS, max_size=HOURS), min_size=1, max_size=20)
)
def test_profiles_are_shares(rows):
    counts = np.array(rows, dtype=float)
    profiles = Habits.learn(counts).of(counts)
    assert (profiles > 0).all()
    assert np.allclose(profiles.sum(axis=1), 1)
    order = ranked(profiles)
    assert (np.sort(order, axis=1) == np.arange(HOURS)).all()


@pytest.mark.parametrize(
    ("several", "expected"),
    [
        ([], list(range(24))),
        ([Hours(9 * 60, 17 * 60)], list(range(9, 17))),
        # 9:30 leaves out 9:00; 17:30 takes in 17:00.
        ([Hours(9 * 60 + 30, 17 * 60 + 30)], list(range(10, 18))),
        # Over midnight, on working days.
        ([Hours(22 * 60, 6 * 60, WEEKDAYS)], [*range(6), 22, 23]),
        # Two that hold together.
        ([Hours(9 * 60, 20 * 60), Hours(18 * 60, 23 * 60)], [18, 19]),
        # No full hour lies within: any will do, and the hours decide.
        ([Hours(9 * 60 + 10, 9 * 60 + 50)], list(range(24))),
    ],
)
def test_the_hours_at_which_somebody_can_be_reached(several, expected):
    assert open_hours(several, dt.date(2026, 11, 23)) == expected


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


@pytest.mark.parametrize(
    ("begins", "zone", "hour", "hours", "expected"),
    [
        # Later today, and on the clock of the place.
        ("2026-11-23T14:00", LONDON, 19, Hours(), "2026-11-23T19:00"),
        ("2026-11-23T14:00", NEW_YORK, 19, Hours(), "2026-11-24T00:00"),
        # The hour has passed today.
        ("2026-11-23T14:00", LONDON, 8, Hours(), "2026-11-24T08:00"),
        # It lasts still: at once.
        ("2026-11-23T14:20", LONDON, 14, Hours(), "2026-11-23T14:20"),
        # Friday evening, on working days only: Monday.
        ("2026-11-27T20:00", LONDON, 9, Hours(0, 0, WEEKDAYS), "2026-11-30T09:00"),
        # A holiday is left out.
        (
            "2026-11-23T14:00",
            LONDON,
            9,
            Hours(closed=frozenset({dt.date(2026, 11, 24)})),
            "2026-11-25T09:00",
        ),
        # 2:00 does not exist in New York on 14 March 2027: it is 3:00, 07:00 UTC.
        ("2027-03-14T05:30", NEW_YORK, 2, Hours(), "2027-03-14T07:00"),
        # 1:00 comes twice on 7 November 2027: the first, 05:00 UTC.
        ("2027-11-07T04:00", NEW_YORK, 1, Hours(), "2027-11-07T05:00"),
        # Never within the hours: from when on it may.
        ("2026-11-23T14:00", LONDON, 3, Hours(9 * 60, 17 * 60), "2026-11-23T14:00"),
    ],
)
def test_when_a_chosen_hour_comes(begins, zone, hour, hours, expected):
    moments = Moments(at(begins), hours=hours)
    assert moments.at_hour(at(begins), zone, hour) == at(expected)
