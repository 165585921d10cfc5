"""Date conditions at the edges of months and years; expected days counted on a calendar by hand."""

import datetime as dt

import pytest

from meadowrun.core.audience.dates import month_days, rolling


@pytest.mark.parametrize(
    ("op", "days", "today", "first", "last"),
    [
        ("in_next", 60, dt.date(2026, 11, 23), dt.date(2026, 11, 23), dt.date(2027, 1, 22)),
        ("in_last", 0, dt.date(2026, 11, 23), dt.date(2026, 11, 23), dt.date(2026, 11, 23)),
        ("in_last", 1, dt.date(2024, 3, 1), dt.date(2024, 2, 29), dt.date(2024, 3, 1)),
        ("in_last", 36_500, dt.date(50, 1, 1), dt.date.min, dt.date(50, 1, 1)),
    ],
)
def test_rolling_has_today_in_it(op, days, today, first, last):
    assert rolling(op, days, today) == (first, last)


def test_yearly_over_new_year():
    found = month_days(dt.date(2026, 12, 30), 3)
    assert found == {"12-30", "12-31", "01-01", "01-02"}


def test_29_february_comes_round_every_year():
    assert "02-29" in month_days(dt.date(2027, 2, 25), 3)
    assert "02-29" not in month_days(dt.date(2028, 2, 25), 3)
    assert "02-29" in month_days(dt.date(2028, 2, 25), 4)
    assert "02-29" not in month_days(dt.date(2027, 3, 1), 5)


def test_a_whole_year_has_every_day():
    assert len(month_days(dt.date(2027, 6, 1), 400)) == 366
