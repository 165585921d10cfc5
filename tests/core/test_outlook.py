"""How many come in the days ahead: worked examples, and how often what really comes lies within
the range, in invented years."""

import math

import numpy as np
import pytest

from meadowrun.core.journeys.outlook import Drift, Outlook, drift, outlook

#: More in winter: 1.6 times at the most, less than half in summer.
SEASON = (0.62 + 0.38 * np.cos(2 * np.pi * (np.arange(900) - 350) / 365.25)) / 0.62


def test_the_same_number_each_day_stays_the_same():
    """Sure but for chance in what was seen: 1,400 in five weeks are known to 1 in √1400."""
    found = outlook([40] * 425, 14)
    assert found.middle == 0.0 and found.spread == pytest.approx(1 / math.sqrt(1400), rel=0.01)


def test_where_nobody_ever_came_nothing_is_known():
    assert outlook([0] * 425, 14) == Outlook()


def test_a_few_weeks_say_little_of_how_far_off_a_look_is():
    found = outlook([0] * 300 + [40] * 45, 14)
    assert found.middle == 0.0 and found.spread == pytest.approx(0.2, abs=0.01)


@pytest.mark.parametrize("today", [430, 500, 560, 620])
def test_as_many_more_as_the_season_brings(today):
    """Of a thousand a day at the turn of the season little is left to chance: what is foretold is
    what the season itself says of the days ahead, beside the five weeks before."""
    a_day = np.round(1000 * SEASON).astype(int)
    found = outlook(a_day[:today].tolist(), 14)
    brings = SEASON[today : today + 14].mean() / SEASON[today - 35 : today].mean()
    assert math.exp(found.middle) == pytest.approx(brings, abs=0.02)
    assert 0 < found.spread < 0.05


def test_of_less_than_a_year_no_season_is_known():
    a_day = np.round(1000 * SEASON).astype(int)
    found = outlook(a_day[200:430].tolist(), 14)
    assert found.middle == 0.0 and 0.1 < found.spread < 0.3


def test_days_of_the_week_are_no_surprise():
    weekends = [50, 50, 50, 50, 50, 400, 400] * 70
    for days in (3, 7, 11, 28):
        found = outlook(weekends, days)
        assert found.middle == 0.0 and found.spread < 0.02


def test_the_range_holds_what_comes():
    """Years of a season, of a growing organisation, and of weeks that differ by themselves: at
    least 85 of 100 of what comes lie in the ranges for 90."""
    random = np.random.default_rng(5)
    within = {}
    for kind in ("season", "grows", "uneven"):
        inside = 0
        for _ in range(300):
            first, days = int(random.integers(0, 365)), int(random.choice([7, 11, 28]))
            rate = random.choice([6.0, 20.0, 80.0]) * np.ones(900)
            if kind == "season":
                rate = rate * SEASON
            if kind == "grows":
                rate = rate * np.exp(np.arange(900) / 400)
            if kind == "uneven":
                rate = rate * np.repeat(random.gamma(16, 1 / 16, 129), 7)[:900]
            came = random.poisson(rate)
            known, ahead = came[first : first + 425], came[first + 425 : first + 425 + days]
            found = outlook(known.tolist(), days)
            thought = known[-35:].reshape(5, 7).mean(axis=0)[np.arange(days) % 7].sum()
            drawn = random.poisson(thought * found.drawn(random, 400))
            low, high = np.percentile(drawn, (5, 95))
            inside += low <= ahead.sum() <= high
        within[kind] = inside / 300
    assert min(within.values()) >= 0.85, within


def test_a_number_that_never_changed_goes_on_so():
    assert drift([250] * 6) == Drift()
    assert Drift().drawn(np.random.default_rng(1), 3, [2, 9]).tolist() == [[1, 1]] * 3


def test_a_number_goes_on_as_it_did():
    """It doubled each week: about 2 to the power of 1 and of 2 after one week and two."""
    found = drift([100, 200, 400, 800, 1600])
    assert math.exp(found.a_week) == pytest.approx(2, abs=0.01)
    shares = found.drawn(np.random.default_rng(1), 50, [7, 14])
    assert np.median(shares, axis=0) == pytest.approx([2, 4], abs=0.05)


def test_what_strays_does_so_the_more_the_later():
    """Up and down by a tenth each week, and known by five weeks: a standard deviation of
    √(0.1095² + 0.049²) after one, and √(4·0.1095² + 16·0.049²) after four."""
    up = math.exp(0.1)
    found = drift([round(100_000 * up ** (one % 2)) for one in range(6)])
    assert found.spread == pytest.approx(0.1095, abs=0.001)
    shares = np.log(found.drawn(np.random.default_rng(1), 20_000, [7, 28]))
    assert np.std(shares, axis=0) == pytest.approx([0.120, 0.2944], abs=0.006)
