"""Hours and message limits of many people at once say what they say of one person at a time."""

import datetime as dt
import zoneinfo

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys.clocks import Clocks, at_hour, first_open, leaves, room_at
from meadowrun.core.timing.hours import Hours
from meadowrun.core.timing.moments import Moments

#: A fortnight without a change of the clocks, and what a month of messages before it needs.
BEGINS = dt.date(2026, 11, 2)
ZONES = [zoneinfo.ZoneInfo(name) for name in ("Europe/London", "Asia/Tokyo", "Asia/Kolkata", "UTC")]
CLOCKS = Clocks.of(BEGINS, 90, ZONES)
FIRST = dt.datetime.combine(BEGINS, dt.time(), dt.UTC)

moments = st.lists(
    st.tuples(st.integers(0, 30 * 24 * 60), st.integers(0, len(ZONES) - 1)), min_size=1, max_size=9
)
hours = st.builds(
    Hours,
    st.integers(0, 1439),
    st.integers(0, 1439),
    st.sets(st.integers(0, 6), min_size=1).map(lambda days: tuple(sorted(days))),
    st.frozensets(st.dates(dt.date(2026, 11, 1), dt.date(2026, 11, 12)), max_size=3),
)
caps = st.builds(
    Cap,
    st.integers(1, 4),
    st.integers(1, 3),
    st.sampled_from(("minute", "day", "week", "month")),
)


def at(minutes):
    return FIRST + dt.timedelta(minutes=int(minutes))


@given(hours, moments)
def test_hours(open_in, asked):
    minutes = np.array([one for one, _ in asked], float)
    zone = np.array([one for _, one in asked])
    found = first_open(open_in, minutes, zone, CLOCKS)
    for place, (minute, number) in enumerate(asked):
        expected = open_in.first_open(at(minute), ZONES[number])
        assert CLOCKS.moment(found[place]) == expected


@given(caps, moments, st.lists(st.integers(0, 20 * 24 * 60), max_size=8))
def test_limits(cap, asked, before):
    minutes = np.array([one for one, _ in asked], float)
    zone = np.array([one for _, one in asked])
    had = np.array([[*before, np.inf]] * len(asked), float)
    found = room_at(cap.most, had, leaves(cap, had, zone[:, None], CLOCKS), minutes)
    for place, (minute, number) in enumerate(asked):
        # What comes later does not count yet.
        until_then = [at(one) for one in before if one <= minute]
        expected = cap.room_at(until_then, at(minute), ZONES[number])
        assert CLOCKS.moment(found[place]) == (expected or at(minute))


@given(st.integers(-1, 23), moments)
def test_hours_of_the_day(hour, asked):
    minutes = np.array([one for one, _ in asked], float)
    zone = np.array([one for _, one in asked])
    found = at_hour(np.full(len(asked), hour), minutes, zone, CLOCKS)
    for place, (minute, number) in enumerate(asked):
        moment = at(minute)
        alone = Moments(moment).at_hour(moment, ZONES[number], hour) if hour >= 0 else moment
        assert CLOCKS.moment(found[place]) == alone


def test_clocks_that_change_show_the_hour_that_people_read():
    london = Clocks.of(dt.date(2026, 10, 20), 20, [zoneinfo.ZoneInfo("Europe/London")])
    # The clocks go back on 25 October 2026.
    nine = Hours(9 * 60, 17 * 60)
    asked = np.array(
        [london.minutes(dt.datetime(2026, 10, day, 20, tzinfo=dt.UTC)) for day in (23, 26)]
    )
    found = first_open(nine, asked, np.zeros(2, np.int64), london)
    assert [london.moment(one) for one in found] == [
        dt.datetime(2026, 10, 24, 8, tzinfo=dt.UTC),
        dt.datetime(2026, 10, 27, 9, tzinfo=dt.UTC),
    ]
