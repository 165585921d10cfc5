"""Hours of the day on days of the week, on a person's own clock, and the first moment at which
several of them hold together.

A window runs from its first minute up to, but not including, its last. One whose last minute lies
before its first runs over midnight and belongs to the day on which it begins; one whose two are
equal lasts the whole day. A holiday is closed by its calendar date, from midnight to midnight.
"""

import dataclasses
import datetime as dt
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core import wording
from meadowrun.core.language import Problem, Wording
from meadowrun.core.timing.zones import moment_of

ALL_DAYS = (0, 1, 2, 3, 4, 5, 6)
WEEKDAYS = (0, 1, 2, 3, 4)
DAY_NAMES = (
    Wording("Monday"),
    Wording("Tuesday"),
    Wording("Wednesday"),
    Wording("Thursday"),
    Wording("Friday"),
    Wording("Saturday"),
    Wording("Sunday"),
)
#: Minutes of a day, and the days after which hours count as never open.
DAY = 24 * 60
SEARCHED = 400


class HoursError(Problem):
    """Hours that cannot be: says what is wrong with them."""


@dataclasses.dataclass(frozen=True, slots=True)
class Hours:
    """From a minute of the day until another, on days of the week (0 is Monday), but for days that
    are closed."""

    begins: int = 0
    ends: int = 0
    days: tuple[int, ...] = ALL_DAYS
    closed: frozenset[dt.date] = frozenset()

    @classmethod
    def of(cls, kept: Mapping[str, Any], closed: Collection[dt.date] = ()) -> "Hours":
        """From how they are stored: {"from": "09:00", "to": "17:00", "days": [0, 1, 2]}, each part
        optional. Raises HoursError."""
        days = tuple(sorted({int(day) for day in kept.get("days", ALL_DAYS)}))
        if not days or days[0] < 0 or days[-1] > 6:
            raise HoursError("Choose one day of the week at least.")
        return cls(
            minute_of(kept.get("from", "00:00")),
            minute_of(kept.get("to", "00:00")),
            days,
            frozenset(closed),
        )

    @property
    def always(self) -> bool:
        """Whether they are open at any time."""
        return self.begins == self.ends and self.days == ALL_DAYS and not self.closed

    def opposite(self) -> "Hours":
        """The hours of each day that these are not."""
        return Hours(self.ends, self.begins, self.days, self.closed)

    def is_open(self, moment: dt.datetime, zone: dt.tzinfo) -> bool:
        """Whether a moment lies within them, on the clock of a zone."""
        return self.first_open(moment, zone) == moment

    def first_open(self, moment: dt.datetime, zone: dt.tzinfo) -> dt.datetime | None:
        """The first moment from `moment` on at which they are open; None: not within 400 days."""
        if self.always:
            return moment
        # The evening before may still run over midnight.
        first = moment.astimezone(zone).date() - dt.timedelta(days=1)
        for number in range(SEARCHED):
            for begins, ends in self._spans(first + dt.timedelta(days=number), zone):
                if moment < ends:
                    return max(moment, begins)
        return None

    def _spans(self, day: dt.date, zone: dt.tzinfo) -> Iterator[tuple[dt.datetime, dt.datetime]]:
        """When they are open of the window that begins on a day, as moments, in order."""
        if day.weekday() not in self.days:
            return
        morrow = day + dt.timedelta(days=1)
        if self.begins < self.ends:
            parts = [(day, self.begins, self.ends)]
        else:
            parts = [(day, self.begins, DAY), (morrow, 0, self.ends)]
        for date, begins, ends in parts:
            if date not in self.closed:
                span = _at(date, begins, zone), _at(date, ends, zone)
                if span[0] < span[1]:
                    yield span


def _at(day: dt.date, minute: int, zone: dt.tzinfo) -> dt.datetime:
    """When a minute of a day begins; minute 1440 is the next day's first."""
    local = dt.datetime.combine(day, dt.time()) + dt.timedelta(minutes=minute)
    return moment_of(local, zone)


def first_open(
    several: Sequence[Hours], moment: dt.datetime, zone: dt.tzinfo
) -> dt.datetime | None:
    """The first moment from `moment` on at which all of several hours are open; None: not within
    400 days, or never together."""
    latest = moment + dt.timedelta(days=SEARCHED)
    at = moment
    while at < latest:
        before = at
        for hours in several:
            opens = hours.first_open(at, zone)
            if opens is None:
                return None
            at = opens
        if at == before:
            return at
    return None


def minute_of(text: str) -> int:
    """ "09:30" → 570. Raises HoursError."""
    hour, colon, minute = str(text).partition(":")
    if not (colon and hour.isdecimal() and minute.isdecimal()):
        raise HoursError(Wording("“%(text)s” is not a time. Write it like 09:30.", text=text))
    if int(hour) > 24 or int(minute) > 59 or int(hour) * 60 + int(minute) > DAY:
        raise HoursError(Wording("“%(text)s” is not a time of the day.", text=text))
    return (int(hour) * 60 + int(minute)) % DAY


def time_words(minute: int) -> str:
    """570 → "09:30"."""
    return f"{minute // 60 % 24:02}:{minute % 60:02}"


def days_words(days: Sequence[int]) -> Wording:
    """Days of the week in words: “on weekdays”, “on Monday and Friday”, “on any day”."""
    if tuple(days) == ALL_DAYS:
        return Wording("on any day")
    if tuple(days) == WEEKDAYS:
        return Wording("on weekdays")
    if tuple(days) == (5, 6):
        return Wording("at weekends")
    return Wording("on %(days)s", days=wording.joined([DAY_NAMES[day] for day in days], "and"))


def hours_words(hours: Hours) -> Wording:
    """Hours in words: “between 09:00 and 17:00 on weekdays”."""
    if hours.begins == hours.ends:
        if hours.days == ALL_DAYS:
            return Wording("at any hour")
        return Wording("at any hour %(days)s", days=days_words(hours.days))
    return Wording(
        "between %(begins)s and %(ends)s %(days)s",
        begins=time_words(hours.begins),
        ends=time_words(hours.ends),
        days=days_words(hours.days),
    )
