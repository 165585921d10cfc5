"""Hours and weekdays, moments on each person's own clock, and portions: tables worked out by hand,
and slow readings that agree."""

import datetime as dt
import zoneinfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from meadowrun.core.timing.hours import (
    Hours,
    HoursError,
    days_words,
    first_open,
    hours_words,
    minute_of,
)
from meadowrun.core.timing.moments import Moments, by_hour, first_moment, portion_words
from meadowrun.core.timing.zones import moment_of

LONDON = zoneinfo.ZoneInfo("Europe/London")
NEW_YORK = zoneinfo.ZoneInfo("America/New_York")
KIRITIMATI = zoneinfo.ZoneInfo("Pacific/Kiritimati")
PAGO = zoneinfo.ZoneInfo("Pacific/Pago_Pago")
LORD_HOWE = zoneinfo.ZoneInfo("Australia/Lord_Howe")
WORK = {"from": "09:00", "to": "17:00", "days": [0, 1, 2, 3, 4]}
NIGHT = {"from": "22:00", "to": "02:00", "days": [4]}


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


#: hours as they are kept; days closed; moment (UTC); zone; the first open moment (UTC; None: the
#: same). Worked out by hand. 23 November 2026 is a Monday.
WORKED = [
    ({}, [], "2026-11-23T03:00", LONDON, None),
    (WORK, [], "2026-11-23T08:59", LONDON, "2026-11-23T09:00"),
    (WORK, [], "2026-11-23T09:00", LONDON, None),
    (WORK, [], "2026-11-23T16:59", LONDON, None),
    # The last minute is not part of it.
    (WORK, [], "2026-11-23T17:00", LONDON, "2026-11-24T09:00"),
    # Friday evening until Monday morning.
    (WORK, [], "2026-11-27T17:00", LONDON, "2026-11-30T09:00"),
    (WORK, ["2026-11-30"], "2026-11-27T17:00", LONDON, "2026-12-01T09:00"),
    # 9:00 in New York is 14:00 UTC, on Kiritimati (+14) it is 19:00 UTC of the day before.
    (WORK, [], "2026-11-23T10:00", NEW_YORK, "2026-11-23T14:00"),
    (WORK, [], "2026-11-23T10:00", KIRITIMATI, "2026-11-23T19:00"),
    (WORK, [], "2026-11-22T10:00", PAGO, "2026-11-23T20:00"),
    # Friday night runs into Saturday; a Saturday night has none.
    (NIGHT, [], "2026-11-27T21:59", LONDON, "2026-11-27T22:00"),
    (NIGHT, [], "2026-11-28T01:59", LONDON, None),
    (NIGHT, [], "2026-11-28T02:00", LONDON, "2026-12-04T22:00"),
    (NIGHT, [], "2026-11-28T22:00", LONDON, "2026-12-04T22:00"),
    # A holiday closes its own date: the evening before ends at midnight.
    (NIGHT, ["2026-11-28"], "2026-11-28T00:30", LONDON, "2026-12-04T22:00"),
    (NIGHT, ["2026-11-27"], "2026-11-27T22:30", LONDON, "2026-11-28T00:00"),
    # The same from and to: all day, on those days.
    ({"days": [6]}, [], "2026-11-23T03:00", LONDON, "2026-11-29T00:00"),
    # Clocks go forward in London on 28 March 2027 at 01:00 UTC, from 01:00 to 02:00.
    ({"from": "01:30", "to": "06:00"}, [], "2027-03-28T00:30", LONDON, "2027-03-28T01:30"),
    ({"from": "09:00", "to": "17:00"}, [], "2027-03-28T07:59", LONDON, "2027-03-28T08:00"),
    # They go back on 25 October 2026 at 01:00 UTC: 01:30 exists twice, and is the first.
    ({"from": "01:30", "to": "06:00"}, [], "2026-10-25T00:00", LONDON, "2026-10-25T00:30"),
    ({"from": "09:00", "to": "17:00"}, [], "2026-10-25T08:59", LONDON, "2026-10-25T09:00"),
    # Lord Howe moves its clocks by half an hour, on 4 October 2026 from 02:00 to 02:30 (15:30 UTC).
    ({"from": "02:15", "to": "03:00"}, [], "2026-10-03T15:00", LORD_HOWE, "2026-10-03T15:45"),
]


@pytest.mark.parametrize(("kept", "closed", "moment", "zone", "opens"), WORKED)
def test_the_first_open_moment(kept, closed, moment, zone, opens):
    hours = Hours.of(kept, [dt.date.fromisoformat(day) for day in closed])
    found = hours.first_open(at(moment), zone)
    assert found == at(opens or moment)
    assert hours.is_open(at(moment), zone) is (opens is None)


def test_hours_that_never_open_say_so():
    closed = [dt.date(2026, 1, 1) + dt.timedelta(days=day) for day in range(900)]
    assert Hours.of({}, closed).first_open(at("2026-11-23T03:00"), LONDON) is None
    morning, evening = Hours(6 * 60, 9 * 60), Hours(18 * 60, 21 * 60)
    assert first_open([morning, evening], at("2026-11-23T03:00"), LONDON) is None


def test_the_hours_that_several_share():
    work, quiet = Hours.of(WORK), Hours(21 * 60, 10 * 60).opposite()
    assert first_open([work, quiet], at("2026-11-23T09:00"), LONDON) == at("2026-11-23T10:00")
    assert first_open([work, quiet], at("2026-11-27T18:00"), LONDON) == at("2026-11-30T10:00")


@pytest.mark.parametrize("text", ["", "9", "25:00", "24:01", "ab:cd", "-1:00", "09:60", "²:00"])
def test_what_is_no_time_says_so(text):
    with pytest.raises(HoursError) as problem:
        minute_of(text)
    assert text in str(problem.value)


def test_hours_without_a_day_say_so():
    for days in ([], [7], [-1]):
        with pytest.raises(HoursError):
            Hours.of({"days": days})


@pytest.mark.parametrize(
    ("kept", "said"),
    [
        ({}, "at any hour"),
        (WORK, "between 09:00 and 17:00 on weekdays"),
        ({"from": "8:05", "to": "20:00"}, "between 08:05 and 20:00 on any day"),
        ({"days": [5, 6]}, "at any hour at weekends"),
        (NIGHT, "between 22:00 and 02:00 on Friday"),
    ],
)
def test_hours_in_words(kept, said):
    assert hours_words(Hours.of(kept)) == said


def test_days_in_words():
    assert days_words((0, 2, 4)) == "on Monday, Wednesday and Friday"


minutes = st.integers(0, 1439)
kinds = st.builds(
    Hours,
    minutes,
    minutes,
    st.lists(st.integers(0, 6), min_size=1, unique=True).map(lambda days: tuple(sorted(days))),
    st.frozensets(st.integers(0, 12).map(lambda n: dt.date(2026, 10, 20) + dt.timedelta(n))),
)
moments = st.integers(0, 14 * 24 * 60).map(
    lambda n: dt.datetime(2026, 10, 18, tzinfo=dt.UTC) + dt.timedelta(minutes=n)
)


def _open_by_the_clock(hours, moment, zone):
    """A slow reading: what a person sees on their clock at this minute."""
    here = moment.astimezone(zone)
    if here.date() in hours.closed:
        return False
    minute, day = here.hour * 60 + here.minute, here.weekday()
    if hours.begins < hours.ends:
        return day in hours.days and hours.begins <= minute < hours.ends
    return (
        day in hours.days
        and minute >= hours.begins
        or (day - 1) % 7 in hours.days
        and minute < hours.ends
    )


@settings(max_examples=200)
@given(kinds, moments, st.sampled_from([NEW_YORK, KIRITIMATI, PAGO]))
def test_a_slow_reading_of_the_clock_agrees(hours, moment, zone):
    # In these weeks no clock of these zones changes: every minute is shown exactly once.
    found = hours.first_open(moment, zone)
    assert found is not None and found >= moment
    assert _open_by_the_clock(hours, found, zone)
    minute = moment
    while minute < min(found, moment + dt.timedelta(days=2)):
        assert not _open_by_the_clock(hours, minute, zone)
        minute += dt.timedelta(minutes=7)
    if found > moment:
        assert not _open_by_the_clock(hours, found - dt.timedelta(minutes=1), zone)


@settings(max_examples=100)
@given(kinds, kinds, moments, st.sampled_from([LONDON, NEW_YORK, LORD_HOWE]))
def test_several_hours_are_all_open_at_the_moment_they_share(one, other, moment, zone):
    found = first_open([one, other], moment, zone)
    assert found == first_open([other, one], moment, zone)
    if found is not None:
        assert one.is_open(found, zone) and other.is_open(found, zone)


#: starts (UTC); local; what becomes of those whose moment has passed; zone; begins (UTC; None:
#: never). Worked out by hand.
OWN = [
    ("2026-11-22T19:00", "2026-11-23T09:00", "now", KIRITIMATI, "2026-11-22T19:00"),
    ("2026-11-22T19:00", "2026-11-23T09:00", "now", LONDON, "2026-11-23T09:00"),
    ("2026-11-22T19:00", "2026-11-23T09:00", "now", PAGO, "2026-11-23T20:00"),
    ("2026-11-23T12:00", "2026-11-23T09:00", "now", LONDON, "2026-11-23T12:00"),
    ("2026-11-23T12:00", "2026-11-23T09:00", "next_day", LONDON, "2026-11-24T09:00"),
    ("2026-11-23T12:00", "2026-11-23T09:00", "skip", LONDON, None),
    ("2026-11-23T12:00", "2026-11-23T09:00", "skip", NEW_YORK, "2026-11-23T14:00"),
    # Days after: the next 9:00 from the start on.
    ("2026-11-26T12:00", "2026-11-23T09:00", "next_day", LONDON, "2026-11-27T09:00"),
    # 01:30 does not exist in London on 28 March 2027, and twice on 25 October 2026.
    ("2027-03-27T00:00", "2027-03-28T01:30", "skip", LONDON, "2027-03-28T01:30"),
    ("2026-10-24T00:00", "2026-10-25T01:30", "skip", LONDON, "2026-10-25T00:30"),
]


@pytest.mark.parametrize(("starts", "local", "passed", "zone", "begins"), OWN)
def test_a_moment_on_each_persons_own_clock(starts, local, passed, zone, begins):
    moments = Moments(at(starts), dt.datetime.fromisoformat(local), passed)
    assert moments.begins(zone) == (at(begins) if begins else None)


def test_every_zone_gets_a_moment_on_the_days_its_clock_changes():
    """In every zone of the tz database, at every half hour of 2027: a time that clocks show is
    exactly that time; one that they skip moves forward, by less than a day."""
    first = dt.datetime.fromisoformat("2027-01-01")
    for name in sorted(zoneinfo.available_timezones()):
        zone = zoneinfo.ZoneInfo(name)
        for day in range(0, 365):
            local = first + dt.timedelta(days=day)
            if zone.utcoffset(local) == zone.utcoffset(local + dt.timedelta(days=1)):
                continue
            for half in range(48):
                wanted = local + dt.timedelta(minutes=30 * half)
                shown = moment_of(wanted, zone).astimezone(zone).replace(tzinfo=None)
                assert wanted <= shown < wanted + dt.timedelta(hours=3), (name, wanted, shown)


def test_portions_go_on_in_the_morning_and_do_not_gather_overnight():
    moments = Moments(at("2026-11-27T16:00"), hours=Hours.of(WORK), gap=30)
    assert moments.portions(LONDON, 4) == [
        at("2026-11-27T16:00"),
        at("2026-11-27T16:30"),
        at("2026-11-30T09:00"),
        at("2026-11-30T09:30"),
    ]


def test_the_first_moment_at_which_all_rules_hold():
    now = at("2026-11-27T16:00")
    hours = {"hours": Hours.of(WORK), "quiet_hours": Hours(12 * 60, 14 * 60).opposite()}
    assert first_moment(now, LONDON, {"cap": None}, hours) is None
    room = first_moment(now, LONDON, {"cap": at("2026-11-27T16:30")}, hours)
    assert (room.until, room.because) == (at("2026-11-27T16:30"), "cap")
    # Room comes at the weekend: it waits for Monday's hours.
    later = first_moment(now, LONDON, {"cap": at("2026-11-28T00:00")}, hours)
    assert (later.until, later.because) == (at("2026-11-30T09:00"), "hours")
    noon = first_moment(at("2026-11-27T12:30"), LONDON, {}, hours)
    assert (noon.until, noon.because) == (at("2026-11-27T14:00"), "quiet_hours")


def test_when_people_get_it_adds_up():
    moments = Moments(
        at("2026-11-22T19:00"),
        dt.datetime.fromisoformat("2026-11-23T09:00"),
        "next_day",
        Hours.of(WORK),
        60,
    )
    found = by_hour(
        [(LONDON, None, 7), (NEW_YORK, None, 2), (KIRITIMATI, None, 1)], moments, [], 5, 10
    )
    assert found == [
        (at("2026-11-22T20:00"), 1),
        (at("2026-11-23T09:00"), 3),
        (at("2026-11-23T10:00"), 4),
        (at("2026-11-23T14:00"), 1),
        (at("2026-11-23T15:00"), 1),
    ]


def test_how_fast_in_words():
    assert portion_words(None, 0) == "all at once"
    assert portion_words(1500, 30) == "in portions of 1,500, one every 30 minutes"
    assert portion_words(10, 60) == "in portions of 10, one every hour"
    assert portion_words(10, 120) == "in portions of 10, one every 2 hours"
