"""Message limits: worked examples, and a slow reading of the rules that agrees."""

import datetime as dt
import zoneinfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.guardrails.caps import Cap, Had, room_for

LONDON = zoneinfo.ZoneInfo("Europe/London")
KIRITIMATI = zoneinfo.ZoneInfo("Pacific/Kiritimati")
SANTIAGO = zoneinfo.ZoneInfo("America/Santiago")


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


#: limit; messages had; now; zone; when there is room (None: now). Worked out by hand.
WORKED = [
    (Cap(2, 1, "day"), ["2026-11-23T09:00"], "2026-11-23T10:00", LONDON, None),
    (Cap(1, 1, "day"), ["2026-11-23T09:00"], "2026-11-23T10:00", LONDON, "2026-11-24T00:00"),
    # Just before midnight in London is the same day; on the line it is the next.
    (Cap(1, 1, "day"), ["2026-11-23T09:00"], "2026-11-23T23:59", LONDON, "2026-11-24T00:00"),
    (Cap(1, 1, "day"), ["2026-11-23T09:00"], "2026-11-24T00:00", LONDON, None),
    # 09:00 UTC is 23:00 on Kiritimati (+14): its day ends at 10:00 UTC.
    (Cap(1, 1, "day"), ["2026-11-23T09:00"], "2026-11-23T09:30", KIRITIMATI, "2026-11-23T10:00"),
    # Monday 23 November; a week from Monday ends on the 30th.
    (Cap(1, 1, "week"), ["2026-11-23T09:00"], "2026-11-29T20:00", LONDON, "2026-11-30T00:00"),
    (Cap(1, 2, "week"), ["2026-11-29T09:00"], "2026-12-01T20:00", LONDON, "2026-12-07T00:00"),
    (Cap(1, 1, "month"), ["2026-12-31T09:00"], "2026-12-31T10:00", LONDON, "2027-01-01T00:00"),
    (Cap(1, 3, "month"), ["2026-11-30T09:00"], "2027-01-31T10:00", LONDON, "2027-02-01T00:00"),
    # Of four within three days, where two may be: the third has to leave.
    (
        Cap(2, 3, "day"),
        ["2026-11-21T08:00", "2026-11-22T08:00", "2026-11-22T09:00", "2026-11-23T08:00"],
        "2026-11-23T10:00",
        LONDON,
        "2026-11-25T00:00",
    ),
    # True minutes, also over the hour that clocks go back (25 October, 01:00 UTC).
    (Cap(1, 90, "minute"), ["2026-10-25T00:30"], "2026-10-25T01:59", LONDON, "2026-10-25T02:00"),
    (Cap(1, 90, "minute"), ["2026-10-25T00:30"], "2026-10-25T02:00", LONDON, None),
    # A day of 25 hours: 25 October in London ends at 00:00 UTC of the 26th.
    (Cap(1, 1, "day"), ["2026-10-24T23:30"], "2026-10-25T12:00", LONDON, "2026-10-26T00:00"),
    # Santiago's clocks go from 24:00 to 01:00 on 6 September 2026: that day begins at 04:00 UTC.
    (Cap(1, 1, "day"), ["2026-09-05T15:00"], "2026-09-05T16:00", SANTIAGO, "2026-09-06T04:00"),
]


@pytest.mark.parametrize(("cap", "had", "now", "zone", "room"), WORKED)
def test_when_there_is_room(cap, had, now, zone, room):
    found = cap.room_at([at(one) for one in had], at(now), zone)
    assert found == (at(room) if room else None)


def test_all_limits_hold_together_and_each_is_of_its_channel():
    caps = [Cap(1, 1, "day", "email"), Cap(2, 1, "week"), Cap(1, 1, "month", "sms")]
    had = [Had(at("2026-11-23T08:00"), "email"), Had(at("2026-11-23T09:00"), "push")]
    now = at("2026-11-23T10:00")
    assert room_for(caps, had, "email", now, LONDON) == at("2026-11-30T00:00")
    assert room_for(caps[:1], had, "email", now, LONDON) == at("2026-11-24T00:00")
    assert room_for(caps[2:], had, "sms", now, LONDON) is None
    assert room_for(caps[:1], had, "sms", now, LONDON) is None


def test_a_limit_by_tag_takes_in_what_lies_under_it():
    season = Cap(1, 1, "week", "", "season", frozenset({1, 2}))
    had = [Had(at("2026-11-23T08:00"), "email", frozenset({2}))]
    now = at("2026-11-23T10:00")
    assert room_for([season], had, "sms", now, LONDON, {1, 9}) == at("2026-11-30T00:00")
    # A message without the tag neither counts nor waits.
    assert room_for([season], had, "sms", now, LONDON, {9}) is None
    assert room_for([season], [Had(now, "sms")], "sms", now, LONDON, {1}) is None
    texts = Cap(1, 1, "week", "sms", "season", frozenset({1, 2}))
    assert room_for([texts], had, "sms", now, LONDON, {1}) is None
    assert season.words() == "at most 1 message with “season” a week"


@pytest.mark.parametrize(
    ("cap", "words"),
    [
        (Cap(2, 1, "week", "email"), "at most 2 emails a week"),
        (Cap(1, 1, "day", "sms"), "at most 1 text message a day"),
        (Cap(3, 7, "day"), "at most 3 messages in 7 days"),
        (Cap(1, 30, "minute", "push"), "at most 1 push notification in 30 minutes"),
    ],
)
def test_a_limit_in_words(cap, words):
    assert cap.words() == words


def counted(cap, had, now, zone):
    """How many are in the period, read off a calendar day by day."""
    if cap.unit == "minute":
        return sum((now - one).total_seconds() < 60 * cap.length for one in had)
    today = now.astimezone(zone).date()
    first = today
    if cap.unit == "week":
        while first.weekday() != 0:
            first -= dt.timedelta(days=1)
        first -= dt.timedelta(days=7 * (cap.length - 1))
    elif cap.unit == "month":
        for passed in range(cap.length):
            first = (first - dt.timedelta(days=1 if passed else 0)).replace(day=1)
    else:
        first -= dt.timedelta(days=cap.length - 1)
    return sum(first <= one.astimezone(zone).date() <= today for one in had)


START = at("2026-09-01T00:00")
MOMENTS = st.lists(
    st.integers(0, 60 * 24 * 60).map(lambda n: START + dt.timedelta(minutes=n)), max_size=12
)
CAPS = st.builds(
    Cap, st.integers(1, 4), st.integers(1, 3), st.sampled_from(["minute", "day", "week", "month"])
)


@given(CAPS, MOMENTS, st.sampled_from([LONDON, KIRITIMATI, SANTIAGO]))
def test_a_slow_reading_of_the_calendar_agrees(cap, had, zone):
    now = max(had, default=START)
    room = cap.room_at(had, now, zone)
    assert (room is None) == (counted(cap, had, now, zone) < cap.most)
    if room is not None:
        before = room - dt.timedelta(seconds=1)
        assert counted(cap, had, before, zone) >= cap.most, "not a moment too late"
        assert counted(cap, had, room, zone) < cap.most, "and then there is room"
