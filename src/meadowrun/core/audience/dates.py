"""The real days that a date condition means today."""

import calendar
import datetime as dt


def rolling(op: str, days: int, today: dt.date) -> tuple[dt.date, dt.date]:
    """First and last day of "in the next N days" or "in the last N days"; today is in both."""
    if op == "in_next":
        return today, _shift(today, days)
    return _shift(today, -days), today


def _shift(day: dt.date, days: int) -> dt.date:
    try:
        return day + dt.timedelta(days=days)
    except OverflowError:
        return dt.date.max if days > 0 else dt.date.min


def month_days(today: dt.date, days: int) -> frozenset[str]:
    """The "MM-DD" of every day from today to N days on, whatever the year.

    29 February comes round on 28 February in years that lack it, so that nobody is left out three years in four.
    """
    found = set()
    for ahead in range(min(days, 366) + 1):
        day = _shift(today, ahead)
        found.add(f"{day:%m-%d}")
        if (day.month, day.day) == (2, 28) and not calendar.isleap(day.year):
            found.add("02-29")
    return frozenset(found)
