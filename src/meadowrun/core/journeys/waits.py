"""When a wait of a journey is over, on the clock of each person."""

import datetime as dt
import zoneinfo

from meadowrun.core.journeys.steps import (
    WaitStep,
)


def wait_until(
    step: WaitStep, arrived: dt.datetime, zone: zoneinfo.ZoneInfo, date: dt.date | None = None
) -> dt.datetime | None:
    """When a wait is over; None where that was before they arrived, or where it is for a date and
    they have none. With an hour or a day of the week, whole days and weeks go by the person's
    calendar, and it is the first such moment after the time is up."""
    if step.date:
        return _date_until(step, arrived, zone, date)
    if step.at is None and step.weekday is None:
        return arrived + step.span.length()
    up = arrived + step.span.length()
    if step.at is None:
        day = up.astimezone(zone).date()
        ahead = ((step.weekday or 0) - day.weekday()) % 7
        # On such a day it is over at once.
        return max(up, _moment(day + dt.timedelta(days=ahead), dt.time(), zone))
    hour = dt.time(*divmod(step.at, 60))
    whole = step.span.unit in ("day", "week")
    day = (
        arrived.astimezone(zone).date() + step.span.length()
        if whole
        else up.astimezone(zone).date()
    )
    # An hour of a day that is counted in whole days may come before the same hour of the day when
    # they arrived, but never before they did.
    least = arrived if whole else up
    while not (_on(step, day) and _moment(day, hour, zone) >= least):
        day += dt.timedelta(days=1)
    return _moment(day, hour, zone)


def _on(step: WaitStep, day: dt.date) -> bool:
    """Whether a day is one of those that a wait goes to."""
    return step.weekday is None or day.weekday() == step.weekday


def _date_until(
    step: WaitStep, arrived: dt.datetime, zone: zoneinfo.ZoneInfo, date: dt.date | None
) -> dt.datetime | None:
    """So long after a date, or before it, at an hour on their own clock; of one that comes round
    each year the next time."""
    if date is None:
        return None
    length = -step.span.length() if step.before else step.span.length()
    hour = dt.time(*divmod(step.at or 0, 60))
    years = (arrived.year - 1, arrived.year, arrived.year + 1, arrived.year + 2)
    for day in [_in_year(date, year) for year in years] if step.yearly else [date]:
        whole = step.span.unit in ("day", "week")
        try:
            moment = (
                _moment(day + length, hour, zone) if whole else _moment(day, hour, zone) + length
            )
        except OverflowError:
            return None
        if moment >= arrived:
            return moment
    return None


def _in_year(date: dt.date, year: int) -> dt.date:
    """The same day of a year: 29 February is 28 February where a year lacks it."""
    try:
        return date.replace(year=year)
    except ValueError:
        return dt.date(year, 2, 28)


def on_clock(day: dt.date, minutes: int, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """The moment of a day on a clock, so many minutes after midnight."""
    return _moment(day, dt.time(*divmod(minutes, 60)), zone)


def _moment(day: dt.date, hour: dt.time, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """A time on a clock; one that does not exist moves forward, of two the first."""
    local = dt.datetime.combine(day, hour, zone)
    return local.astimezone(dt.UTC)
