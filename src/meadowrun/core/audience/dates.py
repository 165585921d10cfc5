"""The real days that a date condition means today."""

import calendar
import dataclasses
import datetime as dt
import zoneinfo

from meadowrun.core.timing.zones import zone_of


@dataclasses.dataclass(frozen=True, slots=True)
class Clock:
    """A moment, and the organisation's zone for whoever has none of their own.

    Every date a condition speaks of is a calendar day on the contact's own clock.
    """

    now: dt.datetime
    zone: zoneinfo.ZoneInfo

    def today(self, zone: str | None = None) -> dt.date:
        return self.now.astimezone(zone_of(zone) or self.zone).date()

    def midnight(self, day: dt.date, zone: str | None = None) -> dt.datetime:
        """The moment a day begins on a zone's clock, in UTC."""
        return dt.datetime.combine(day, dt.time(), zone_of(zone) or self.zone).astimezone(dt.UTC)


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
    """The "MM-DD" of every day from today to N days on (back, when N is negative), whatever the
    year.

    29 February comes round on 28 February in years that lack it, so that nobody is left out three
    years in four.
    """
    found = set()
    for distance in range(min(abs(days), 366) + 1):
        day = _shift(today, distance if days >= 0 else -distance)
        found.add(f"{day:%m-%d}")
        if (day.month, day.day) == (2, 28) and not calendar.isleap(day.year):
            found.add("02-29")
    return frozenset(found)


def between_month_days(first: str, last: str) -> frozenset[str]:
    """Every "MM-DD" from the first to the last, over New Year when the last comes before the first;
    with 29 February."""
    days = [f"{dt.date(2024, 1, 1) + dt.timedelta(days=n):%m-%d}" for n in range(366)]
    start, end = days.index(first), days.index(last)
    return frozenset(days[start : end + 1] if start <= end else days[start:] + days[: end + 1])


def shaded(kind: str, value: object, today: dt.date) -> frozenset[str]:
    """The "MM-DD" a condition of this operator takes today, for a year strip; empty when it names
    no days of a year."""
    if kind == "yearly_next" and isinstance(value, int):
        return month_days(today, value)
    if kind == "yearly_last" and isinstance(value, int):
        return month_days(today, -value)
    if kind in ("in_next", "in_last") and isinstance(value, int):
        first, last = rolling(kind, value, today)
        return span_days(first, last)
    if kind == "day_month" and isinstance(value, tuple):
        return between_month_days(*value)
    if kind == "between" and isinstance(value, tuple) and isinstance(value[0], dt.date):
        return span_days(*value)
    return (
        frozenset({f"{value:%m-%d}"})
        if kind == "on" and isinstance(value, dt.date)
        else frozenset()
    )


def span_days(first: dt.date, last: dt.date) -> frozenset[str]:
    """The "MM-DD" of every day of a span."""
    return frozenset(f"{_shift(first, n):%m-%d}" for n in range(min((last - first).days, 366) + 1))
