"""How fast emails leave: turns worked out by hand, plans of new domains, and what always holds."""

import datetime as dt

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.guardrails import speeds
from meadowrun.core.guardrails.speeds import WarmUp

NOON = dt.datetime(2026, 11, 30, 12, tzinfo=dt.UTC)


def at(seconds):
    return NOON + dt.timedelta(seconds=seconds)


@pytest.mark.parametrize(
    ("wanted", "per_hour", "free", "planned", "now", "later", "free_at"),
    [
        # 360 an hour are one each 10 seconds: those of one minute at once, then each in its turn.
        (5, 360, None, None, 5, [], 50),
        (9, 360, None, None, 6, [10, 20, 30], 60),
        # Right after: nobody has room, and three wait already.
        (2, 360, 60, 40, 0, [40, 50], 60),
        (1, 360, 50, None, 1, [], 60),
        # A long time after: as in the beginning.
        (9, 360, -5000, -5000, 6, [10, 20, 30], 60),
        # One an hour: one at once, then each hour.
        (3, 1, None, None, 1, [3600, 7200], 3600),
        (0, 10, None, None, 0, [], 0),
    ],
)
def test_turns(wanted, per_hour, free, planned, now, later, free_at):
    asked = (at(one) if one is not None else None for one in (free, planned))
    said = speeds.turns(wanted, per_hour, *asked, NOON)
    assert said.now == now
    assert list(said.later) == [at(seconds) for seconds in later]
    assert said.free_at == at(free_at)


def test_what_may_not_wait_takes_the_room_of_others():
    said = speeds.turns(9, 360, None, None, NOON, may_wait=False)
    assert (said.now, said.later, said.free_at) == (9, (), at(90))
    assert speeds.turns(1, 360, said.free_at, None, NOON).later == (at(40),)


@given(
    st.integers(1, 5000),
    st.lists(st.tuples(st.integers(0, 400), st.integers(0, 900)), min_size=1, max_size=30),
)
def test_never_more_leave_than_an_hour_allows(per_hour, arrivals):
    """However they come: within any hour at most what the speed allows, and one minute of it."""
    now, free, planned = NOON, None, None
    left: list[tuple[dt.datetime, int]] = []
    for wanted, seconds in arrivals:
        now += dt.timedelta(seconds=seconds)
        said = speeds.turns(wanted, per_hour, free, planned, now)
        free, planned = said.free_at, said.planned_to
        assert said.now + len(said.later) == wanted
        assert all(one > now for one in said.later)
        left.append((now, said.now))
    for begins, _ in left:
        within = sum(n for when, n in left if begins <= when < begins + dt.timedelta(hours=1))
        assert within <= per_hour + per_hour / 60 + 1


@given(st.integers(1, 5000), st.integers(1, 2000))
def test_whoever_waits_has_room_when_their_turn_comes(per_hour, wanted):
    """Judged again at its turn, each one goes: nobody is put off twice."""
    said = speeds.turns(wanted, per_hour, None, None, NOON)
    free = said.free_at
    for turn in said.later[:50]:
        again = speeds.turns(1, per_hour, free, None, turn)
        assert again.now == 1
        free = again.free_at


@pytest.mark.parametrize(
    ("handed", "delayed", "slow"),
    [(0, 9, False), (0, 10, True), (10, 10, True), (11, 10, False), (100, 0, False)],
)
def test_which_servers_want_to_be_left_alone(handed, delayed, slow):
    assert speeds.is_delaying(handed, delayed) is slow


@pytest.mark.parametrize(
    ("times", "minutes"), [(1, 5), (2, 10), (3, 20), (4, 40), (5, 80), (6, 120), (40, 120)]
)
def test_each_pause_in_a_row_is_longer(times, minutes):
    assert speeds.pause(times) == dt.timedelta(minutes=minutes)


FIRST = dt.date(2026, 11, 30)
#: 100, 150, 225, 337.5, 506.25, 759.4, 1139.06: the seventh day is the first above 1,000.
PLAN = WarmUp(FIRST, 100, 50, 1000)


@pytest.mark.parametrize(
    ("days", "most"),
    [(-1, None), (0, 100), (1, 150), (2, 225), (3, 337), (4, 506), (5, 759), (6, None), (60, None)],
)
def test_how_many_may_leave_on_a_day(days, most):
    assert PLAN.most_on(FIRST + dt.timedelta(days=days)) == most


@pytest.mark.parametrize(
    ("plan", "ends"),
    [
        (PLAN, dt.date(2026, 12, 6)),
        # 100, 200, 400, 800: 800 is reached on the fourth day, exactly.
        (WarmUp(FIRST, 100, 100, 800), dt.date(2026, 12, 3)),
        (WarmUp(FIRST, 100, 10, 101), dt.date(2026, 12, 1)),
        (WarmUp(FIRST, 100, 10, 100), FIRST),
    ],
)
def test_when_a_plan_ends(plan, ends):
    assert plan.ends == ends
    assert plan.most_on(ends) is None


@pytest.mark.parametrize(
    ("people", "left", "day"),
    [
        (100, 100, "2026-11-30"),
        (101, 100, "2026-12-01"),
        # 40 today, 150 tomorrow, then one more.
        (190, 40, "2026-12-01"),
        (191, 40, "2026-12-02"),
        # All days together let 2,077 go; the rest goes once there is no limit.
        (2077, 100, "2026-12-05"),
        (50_000, 100, "2026-12-06"),
    ],
)
def test_the_day_on_which_the_last_one_gets_it(people, left, day):
    assert PLAN.last_day_of(people, FIRST, left) == dt.date.fromisoformat(day)
