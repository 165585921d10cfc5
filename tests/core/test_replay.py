"""What limits would have done to what really happened: worked examples."""

import datetime as dt
import zoneinfo

from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.replay import Fate, Sent, replay

LONDON = zoneinfo.ZoneInfo("Europe/London")
DAY = dt.timedelta(days=1)
#: Monday 23 November 2026.
MONDAY = dt.datetime(2026, 11, 23, tzinfo=dt.UTC)


def sent(at, channel="email", priority=0, obeys=True, counts=True, last=None, tags=()):
    return Sent(at, channel, frozenset(tags), obeys, counts, priority, last)


def test_who_waits_takes_room_that_comes_later():
    """One email a day: the second of Monday goes on Tuesday, so that of Tuesday goes on
    Wednesday."""
    nine = dt.timedelta(hours=9)
    day = [sent(MONDAY + nine), sent(MONDAY + nine * 2), sent(MONDAY + DAY + nine)]
    assert replay(day, [Cap(1, 1, "day", "email")], LONDON) == [
        Fate(MONDAY + nine, False),
        Fate(MONDAY + DAY, True),
        Fate(MONDAY + 2 * DAY, True),
    ]


def test_service_takes_the_room_first():
    late = MONDAY + dt.timedelta(hours=20)
    three = [sent(MONDAY), sent(late), sent(late + dt.timedelta(hours=1), priority=1)]
    assert [fate.at for fate in replay(three, [Cap(1, 1, "day")], LONDON)] == [
        MONDAY,
        MONDAY + 2 * DAY,
        MONDAY + DAY,
    ]


def test_what_waits_beyond_its_last_moment_does_not_go():
    two = [sent(MONDAY), sent(MONDAY + dt.timedelta(hours=1), last=MONDAY + DAY)]
    assert replay(two, [Cap(1, 1, "week")], LONDON)[1] == Fate(None, True)
    # It took no room from the next.
    three = [*two, sent(MONDAY + 7 * DAY)]
    assert replay(three, [Cap(1, 1, "week")], LONDON)[2] == Fate(MONDAY + 7 * DAY, False)


def test_what_is_exempt_goes_and_may_count_all_the_same():
    two = [sent(MONDAY), sent(MONDAY + dt.timedelta(hours=1), obeys=False)]
    assert [fate.waited for fate in replay(two, [Cap(1, 1, "day")], LONDON)] == [False, False]
    free = [sent(MONDAY, counts=False), sent(MONDAY + dt.timedelta(hours=1))]
    assert [fate.waited for fate in replay(free, [Cap(1, 1, "day")], LONDON)] == [False, False]


some = st.lists(
    st.tuples(st.integers(0, 60), st.sampled_from(["email", "sms"]), st.integers(0, 1)),
    max_size=25,
)


@given(some, st.integers(1, 3), st.sampled_from(["day", "week"]))
def test_no_limit_is_ever_passed(messages, most, unit):
    """However they lie: never more than the limit on one day, or in one week, and nothing is lost
    that has no last moment."""
    asked = [
        sent(MONDAY + dt.timedelta(hours=6 * hours), channel, priority)
        for hours, channel, priority in messages
    ]
    fates = replay(asked, [Cap(most, 1, unit)], LONDON)
    assert len(fates) == len(asked)
    by_period = {}
    for one, fate in zip(asked, fates, strict=True):
        assert fate.at >= one.at and fate.waited == (fate.at > one.at)
        here = fate.at.astimezone(LONDON)
        period = here.date() if unit == "day" else here.isocalendar()[:2]
        by_period[period] = by_period.get(period, 0) + 1
    assert all(count <= most for count in by_period.values())
