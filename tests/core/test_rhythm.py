"""Repeating rules: what is typed, what is said, and the real dates, worked out by hand."""

import datetime as dt
import zoneinfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.timing.rhythm import Rhythm, RhythmError, at_words, offered, read
from meadowrun.core.timing.zones import moment_of

#: A Wednesday, the second of its month.
FIRST = dt.datetime.fromisoformat("2026-12-09T15:30")

#: typed; the rule; as it is said; its first dates. Worked out with a printed calendar.
READ = [
    ("every day", "FREQ=DAILY", "every day", "9 10 11"),
    ("daily", "FREQ=DAILY", "every day", "9 10"),
    ("every second day", "FREQ=DAILY;INTERVAL=2", "every second day", "9 11 13"),
    ("every 10 days", "FREQ=DAILY;INTERVAL=10", "every 10 days", "9 19 29"),
    ("every weekday", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR", "every weekday", "9 10 11 14"),
    ("weekly", "FREQ=WEEKLY;BYDAY=WE", "every Wednesday", "9 16"),
    ("every week on Monday", "FREQ=WEEKLY;BYDAY=MO", "every Monday", "14 21"),
    ("every Monday and Friday", "FREQ=WEEKLY;BYDAY=MO,FR", "every Monday and Friday", "11 14 18"),
    ("every mon, fri", "FREQ=WEEKLY;BYDAY=MO,FR", "every Monday and Friday", "11 14"),
    ("every second Wednesday", "FREQ=WEEKLY;INTERVAL=2;BYDAY=WE", "every second Wednesday", "9 23"),
    ("every other Friday", "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR", "every second Friday", "11 25"),
    (
        "every 3 weeks on Tuesday and Sunday",
        "FREQ=WEEKLY;INTERVAL=3;BYDAY=TU,SU",
        "every 3 weeks on Tuesday and Sunday",
        "13 29",
    ),
    ("fortnightly", "FREQ=WEEKLY;INTERVAL=2;BYDAY=WE", "every second Wednesday", "9 23"),
    (
        "the second Wednesday of each month",
        "FREQ=MONTHLY;BYDAY=2WE",
        "the second Wednesday of each month",
        "2026-12-09 2027-01-13 2027-02-10",
    ),
    (
        "every first Monday",
        "FREQ=MONTHLY;BYDAY=1MO",
        "the first Monday of each month",
        "2027-01-04 2027-02-01",
    ),
    (
        "every second Tuesday of the month",
        "FREQ=MONTHLY;BYDAY=2TU",
        "the second Tuesday of each month",
        "2027-01-12 2027-02-09",
    ),
    (
        "every month on the last Friday",
        "FREQ=MONTHLY;BYDAY=-1FR",
        "the last Friday of each month",
        "2026-12-25 2027-01-29 2027-02-26",
    ),
    (
        "the fifth Friday of the month",
        "FREQ=MONTHLY;BYDAY=5FR",
        "the fifth Friday of each month that has one",
        "2027-01-29 2027-04-30 2027-07-30",
    ),
    (
        "monthly on the 31st",
        "FREQ=MONTHLY;BYMONTHDAY=31",
        "day 31 of each month that has one",
        "2026-12-31 2027-01-31 2027-03-31",
    ),
    (
        "last day of the month",
        "FREQ=MONTHLY;BYMONTHDAY=-1",
        "the last day of each month",
        "2026-12-31 2027-01-31 2027-02-28",
    ),
    ("monthly", "FREQ=MONTHLY;BYMONTHDAY=9", "day 9 of each month", "2026-12-09 2027-01-09"),
    (
        "every 3 months on the 1st",
        "FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=1",
        "day 1 of the month, every 3 months",
        "2027-03-01 2027-06-01",
    ),
    (
        "quarterly",
        "FREQ=MONTHLY;INTERVAL=3;BYMONTHDAY=9",
        "day 9 of the month, every 3 months",
        "2026-12-09 2027-03-09",
    ),
    ("every year", "FREQ=YEARLY", "every year", "2026-12-09 2027-12-09"),
    (
        "on 16 December and 4 January",
        "RDATE=20261209,20261216,20270104",
        "on 9 Dec 2026, 16 Dec 2026 and 4 Jan 2027",
        "2026-12-09 2026-12-16 2027-01-04",
    ),
    (
        "11, 18th and 24th of December, 1 Feb 2028",
        "RDATE=20261209,20261211,20261218,20261224,20280201",
        "on 9 Dec 2026, 11 Dec 2026, 18 Dec 2026, 24 Dec 2026 and 1 Feb 2028",
        "2026-12-09 2026-12-11 2026-12-18 2026-12-24 2028-02-01",
    ),
    (
        "2026-12-31; 2027-02-28",
        "RDATE=20261209,20261231,20270228",
        "on 9 Dec 2026, 31 Dec 2026 and 28 Feb 2027",
        "2026-12-09 2026-12-31 2027-02-28",
    ),
    # The next day of that name: 29 February 2028.
    (
        "29 February",
        "RDATE=20261209,20280229",
        "on 9 Dec 2026 and 29 Feb 2028",
        "2026-12-09 2028-02-29",
    ),
]


@pytest.mark.parametrize(("typed", "rule", "said", "days"), READ)
def test_what_is_typed(typed, rule, said, days):
    rhythm = read(typed, FIRST.date())
    assert rhythm.rule() == rule and rhythm.words(FIRST) == said
    expected = [day if "-" in day else f"2026-12-{int(day):02}" for day in days.split()]
    found = [date for date, _ in zip(rhythm.dates(FIRST), expected, strict=False)]
    assert [f"{date:%Y-%m-%d}" for date in found] == expected
    assert {date.time() for date in found} == {dt.time(15, 30)}


@pytest.mark.parametrize(
    "typed",
    ["", "soon", "every", "every blue moon", "the second of Wednesday", "every 0 days"]
    + ["on 31 November", "30 February 2027", "4 and 5 December and 6", "2026-13-01"],
)
def test_what_is_not_understood_says_so(typed):
    with pytest.raises(RhythmError):
        read(typed, FIRST.date())


def test_what_is_not_understood_is_named():
    with pytest.raises(RhythmError) as problem:
        read("every Monday after lunch", FIRST.date())
    assert "“after lunch”" in str(problem.value)


@pytest.mark.parametrize(
    "rule",
    [
        "",
        "FREQ=HOURLY",
        "FREQ=WEEKLY;INTERVAL=x",
        "FREQ=WEEKLY;INTERVAL=0",
        "FREQ=MONTHLY;BYDAY=9WE",
        "FREQ=MONTHLY;BYDAY=WE",
        "FREQ=MONTHLY;BYMONTHDAY=32",
        "FREQ=WEEKLY;BYMONTHDAY=3",
        "FREQ=WEEKLY;BYDAY=XX",
        "FREQ=DAILY;UNTIL=soon",
        "FREQ=DAILY;COUNT=1001",
        "FREQ=DAILY;BYHOUR=3",
    ],
)
def test_a_rule_that_cannot_be_says_why(rule):
    with pytest.raises(RhythmError):
        Rhythm.of(rule)


def test_it_ends_after_so_many_or_on_a_day():
    thrice = Rhythm.of("FREQ=WEEKLY;BYDAY=WE;COUNT=3")
    assert [date.day for date in thrice.dates(FIRST)] == [9, 16, 23]
    assert thrice.words() == "every Wednesday, 3 times"
    until = Rhythm.of("FREQ=WEEKLY;BYDAY=WE;UNTIL=20261223T000000Z")
    assert [date.day for date in until.dates(FIRST)] == [9, 16, 23]
    assert until.words() == "every Wednesday, until 23 Dec 2026"
    assert thrice.next_after(FIRST, FIRST) == dt.datetime.fromisoformat("2026-12-16T15:30")
    assert thrice.next_after(FIRST, dt.datetime.fromisoformat("2026-12-23T15:30")) is None


def test_it_keeps_its_hour_when_clocks_change():
    """15:30 in London is 14:30 UTC in summer; in New York clocks change on other days."""
    weekly = Rhythm("week", 1, (6,))
    first = dt.datetime.fromisoformat("2027-03-14T15:30")
    moments = [
        moment_of(date, zoneinfo.ZoneInfo("Europe/London")).strftime("%d %H:%M")
        for date, _ in zip(weekly.dates(first), range(4), strict=False)
    ]
    assert moments == ["14 15:30", "21 15:30", "28 14:30", "04 14:30"]
    autumn = dt.datetime.fromisoformat("2026-10-18T15:30")
    moments = [
        moment_of(date, zoneinfo.ZoneInfo("America/New_York")).strftime("%d %H:%M")
        for date, _ in zip(weekly.dates(autumn), range(4), strict=False)
    ]
    assert moments == ["18 19:30", "25 19:30", "01 20:30", "08 20:30"]


def test_what_a_first_date_brings_to_mind():
    assert [rhythm.words(FIRST) for rhythm in offered(FIRST.date())] == [
        "every day",
        "every weekday",
        "every Wednesday",
        "every second Wednesday",
        "the second Wednesday of each month",
        "day 9 of each month",
    ]
    assert offered(dt.date(2027, 2, 28))[-1].words() == "the last day of each month"
    assert at_words(offered(FIRST.date())[3], FIRST) == "every second Wednesday at 15:30"


rhythms = st.one_of(
    st.builds(Rhythm, st.just("day"), st.integers(1, 400)),
    st.builds(
        Rhythm,
        st.just("week"),
        st.integers(1, 50),
        st.sets(st.integers(0, 6), min_size=1).map(lambda days: tuple(sorted(days))),
    ),
    st.builds(
        Rhythm,
        st.just("month"),
        st.integers(1, 24),
        st.just(()),
        st.one_of(st.just(-1), st.integers(1, 31)),
    ),
    st.builds(
        Rhythm,
        st.just("month"),
        st.integers(1, 24),
        st.integers(0, 6).map(lambda day: (day,)),
        st.just(0),
        st.sampled_from([1, 2, 3, 4, 5, -1]),
    ),
)


@given(rhythms, st.integers(0, 30), st.dates(dt.date(2026, 1, 1), dt.date(2030, 1, 1)))
def test_a_rule_is_read_as_it_was_written(rhythm, times, until):
    for one in (rhythm, Rhythm.of(f"{rhythm.rule()};COUNT={times}")):
        assert Rhythm.of(one.rule()) == one
    ends = Rhythm.of(f"{rhythm.rule()};UNTIL={until:%Y%m%d}")
    assert all(date.date() <= until for date in ends.dates(FIRST))


@given(rhythms.filter(lambda one: one.every == 1))
def test_what_is_said_can_be_typed_again(rhythm):
    said = str.__str__(rhythm.words(FIRST)).replace(" that has one", "")
    if rhythm.month_day > 0:
        said = said.replace("day ", "", 1)
    assert read(said, FIRST.date()).rule() == rhythm.rule()


@given(st.sets(st.dates(FIRST.date(), dt.date(2040, 12, 31)), max_size=20))
def test_days_named_one_by_one_are_read_as_they_are_said(days):
    named = Rhythm("", on=tuple(sorted({FIRST.date(), *days})))
    assert Rhythm.of(named.rule()) == named
    if days - {FIRST.date()}:
        assert read(str.__str__(named.words(FIRST)), FIRST.date()) == named
    assert [date.date() for date in named.dates(FIRST)] == list(named.on)
    once = Rhythm.of(f"{named.rule()};COUNT=1")
    assert list(once.dates(FIRST)) == [FIRST]
    ends = Rhythm.of(f"{named.rule()};UNTIL=20300101")
    assert all(date.date() <= dt.date(2030, 1, 1) for date in ends.dates(FIRST))
