"""What the village's people do without being written to: as often as in the past, those more who do
more, at their hours, and the same whenever asked."""

import datetime as dt
from collections import Counter

import pytest

from meadowrun.village.everyday import of_day, season
from meadowrun.village.store import Doing, Habit

#: A day in spring on which as much is done as on the average day.
MIDDLE = dt.date(2027, 3, 17)
VISIT = Doing("visited", 600.0, False, ['{"night": "Open night"}'])
RENEWAL = Doing("membership_renewed", 40.0, True, [])
#: Ann does three times as much as Bo, and Cy nothing.
PEOPLE = [Habit("1", 3.0, 20, "Patron"), Habit("2", 1.0, 8, ""), Habit("3", 0.0, 8, "")]


def test_the_season_is_that_of_an_observatory():
    # 0.62 + 0.38 · cos(2π (d − 350) / 365.25), over 0.62: its top is on day 350, its least half a
    # year from there, and the middle a quarter.
    assert season(dt.date(2026, 12, 16)) == pytest.approx(1.0 / 0.62)
    assert season(dt.date(2027, 6, 17)) == pytest.approx(0.24 / 0.62, rel=0.01)
    assert season(MIDDLE) == pytest.approx(1.0, abs=0.01)


def test_who_does_more_does_more_at_their_own_hour():
    plans = of_day(PEOPLE, [VISIT], MIDDLE)
    who = Counter(plan.detail["contact"] for plan in plans)
    assert len(plans) == pytest.approx(600, rel=0.02)
    # Three of four are Ann's: 450, give or take four times √(600 · ¾ · ¼) = 42.
    assert abs(who[1] - 450) < 43 and who[3] == 0
    hours = {
        1: [moment(plan).hour for plan in plans if plan.detail["contact"] == 1],
        2: [moment(plan).hour for plan in plans if plan.detail["contact"] == 2],
    }
    # Within two hours of the hour they like, as 89 of 100 are at 4,200 s around it.
    assert sum(18 <= hour < 22 for hour in hours[1]) > 0.8 * len(hours[1])
    assert sum(6 <= hour < 10 for hour in hours[2]) > 0.8 * len(hours[2])
    assert all(moment(plan).date() == MIDDLE for plan in plans)
    assert [plan.due for plan in plans] == sorted(plan.due for plan in plans)
    assert plans[0].detail["details"] == {"night": "Open night"}


def test_what_members_do_is_done_by_members_and_tells_their_tier():
    plans = of_day(PEOPLE, [RENEWAL], MIDDLE)
    told = {"event": "membership_renewed", "contact": 1, "details": {"tier": "Patron"}}
    assert plans and all(plan.detail == told for plan in plans)
    assert of_day(PEOPLE[1:], [RENEWAL], MIDDLE) == []


def test_a_day_is_the_same_whenever_asked_and_another_the_next_day():
    assert of_day(PEOPLE, [VISIT], MIDDLE) == of_day(PEOPLE, [VISIT], MIDDLE)
    after = MIDDLE + dt.timedelta(days=1)
    apart = [plan.due - 86_400 for plan in of_day(PEOPLE, [VISIT], after)]
    assert apart != [plan.due for plan in of_day(PEOPLE, [VISIT], MIDDLE)]


def moment(plan):
    return dt.datetime.fromtimestamp(plan.due, dt.UTC)
