"""A repeating rule: every second Wednesday, the last day of each month, every weekday.

Kept as a recurrence rule of iCalendar (RFC 5545, 3.3.10) and worked out on a local clock by
`dateutil`; a date that a month does not have (the 31st, a fifth Friday) is left out, as the
standard has it.
"""

import dataclasses
import datetime as dt
import itertools
import re
from collections.abc import Iterator

from dateutil import rrule

from meadowrun.core import wording
from meadowrun.core.language import Problem, Wording
from meadowrun.core.timing.hours import DAY_NAMES, WEEKDAYS, time_words

UNITS = ("day", "week", "month", "year")
_FREQ = {"day": rrule.DAILY, "week": rrule.WEEKLY, "month": rrule.MONTHLY, "year": rrule.YEARLY}
_NAMES = {"day": "DAILY", "week": "WEEKLY", "month": "MONTHLY", "year": "YEARLY"}
_CODES = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
_DAYS = (rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU)
MOST_EVERY = 400
MOST_TIMES = 1000
#: The most days that can be named one by one.
MOST_DAYS = 60
#: How many dates are tried before a rule counts as one without any.
_TRIED = 5000


class RhythmError(Problem):
    """A rule that cannot be: says what is wrong with it."""


@dataclasses.dataclass(frozen=True, slots=True)
class Rhythm:
    """Every so many days, weeks, months or years; on which of them; how often or until when."""

    unit: str
    every: int = 1
    #: days of the week (0 is Monday); with `nth`, one of them
    days: tuple[int, ...] = ()
    #: of a month: 1 to 31, or -1 for its last day
    month_day: int = 0
    #: of a month: its first, …, fifth or (-1) last such day of the week
    nth: int = 0
    #: after so many dates it ends; 0: it does not
    times: int = 0
    #: the last day on which it may be
    until: dt.date | None = None
    #: in place of a unit, which is empty then: the very days on which it is, in order
    on: tuple[dt.date, ...] = ()

    def rule(self) -> str:
        """As a recurrence rule of iCalendar; days of their own as its RDATE (RFC 5545, 3.8.5.2)."""
        if self.on:
            parts = ["RDATE=" + ",".join(f"{day:%Y%m%d}" for day in self.on)]
            return ";".join(parts + self._end())
        parts = [f"FREQ={_NAMES[self.unit]}"]
        if self.every != 1:
            parts.append(f"INTERVAL={self.every}")
        if self.days:
            nth = str(self.nth) if self.nth else ""
            parts.append("BYDAY=" + ",".join(nth + _CODES[day] for day in self.days))
        if self.month_day:
            parts.append(f"BYMONTHDAY={self.month_day}")
        return ";".join(parts + self._end())

    def _end(self) -> list[str]:
        """How it ends, as parts of a rule."""
        found = [f"COUNT={self.times}"] if self.times else []
        return found + ([f"UNTIL={self.until:%Y%m%d}"] if self.until else [])

    @classmethod
    def of(cls, rule: str) -> "Rhythm":
        """From a recurrence rule. Raises RhythmError for one that is wrong, or of a kind that
        cannot be said in words."""
        parts = dict(part.partition("=")[::2] for part in rule.upper().split(";") if part)
        if "RDATE" in parts:
            return cls._of_days(parts)
        frequency = parts.pop("FREQ", "")
        unit = next((u for u, name in _NAMES.items() if name == frequency), "")
        if not unit:
            raise RhythmError("A rule repeats daily, weekly, monthly or yearly.")
        every, times = _whole(parts, "INTERVAL", 1), _whole(parts, "COUNT", 0)
        until = _day(parts.pop("UNTIL", ""))
        days, nth = _by_day(parts.pop("BYDAY", ""))
        month_day = _whole(parts, "BYMONTHDAY", 0)
        parts.pop("WKST", "")
        if parts:
            raise RhythmError(
                Wording("%(parts)s cannot be part of a rule here.", parts=", ".join(sorted(parts)))
            )
        return cls(unit, every, days, month_day, nth, times, until)._checked()

    @classmethod
    def _of_days(cls, parts: dict[str, str]) -> "Rhythm":
        """From days of their own. Raises RhythmError."""
        found = {_day(text) for text in parts.pop("RDATE").split(",")} - {None}
        times, until = _whole(parts, "COUNT", 0), _day(parts.pop("UNTIL", ""))
        if parts:
            raise RhythmError(
                Wording("%(parts)s cannot be part of a rule here.", parts=", ".join(sorted(parts)))
            )
        days = tuple(sorted(day for day in found if day))
        return cls("", times=times, until=until, on=days)._checked()

    def _checked(self) -> "Rhythm":
        """Itself, when it holds together. Raises RhythmError."""
        if not self.unit and not 1 <= len(self.on) <= MOST_DAYS:
            raise RhythmError(Wording("Name between 1 and %(most)s days.", most=MOST_DAYS))
        if not 1 <= self.every <= MOST_EVERY:
            raise RhythmError("Between two dates there are between 1 and 400 of its units.")
        if not 0 <= self.times <= MOST_TIMES:
            raise RhythmError("It can repeat between 1 and 1,000 times.")
        if not (self.month_day in (-1, 0) or 1 <= self.month_day <= 31):
            raise RhythmError("A month has the days 1 to 31.")
        if self.nth not in (-1, 0, 1, 2, 3, 4, 5):
            raise RhythmError("A month has a first, second, third, fourth, fifth or last such day.")
        by_month = self.unit == "month"
        if (self.month_day or self.nth) and not by_month or (self.month_day and self.days):
            raise RhythmError("A day of the month belongs to a rule by months.")
        if self.nth and len(self.days) != 1 or by_month and self.days and not self.nth:
            raise RhythmError("Say which of the month’s days it is: the second Wednesday, say.")
        if self.unit == "year" and self.days:
            raise RhythmError("Once a year is on the date of the first one.")
        return self

    def dates(self, first: dt.datetime) -> Iterator[dt.datetime]:
        """The local times (naive) at which it is, from the first one on, which gives the time of
        day; that itself only if it fits. None follows where there is none any more."""
        if self.on:
            return self._on_days(first)
        days = [_DAYS[day](self.nth) if self.nth else _DAYS[day] for day in self.days]
        found = rrule.rrule(
            _FREQ[self.unit],  # type: ignore[arg-type]
            dtstart=first,
            interval=self.every,
            byweekday=days or None,
            bymonthday=self.month_day or None,
            count=self.times or None,
            until=dt.datetime.combine(self.until, dt.time.max) if self.until else None,
        )
        return itertools.islice(iter(found), _TRIED)

    def _on_days(self, first: dt.datetime) -> Iterator[dt.datetime]:
        """The days of their own that are left from the first one on, at its time of day."""
        last = self.until or dt.date.max
        days = [day for day in self.on if first.date() <= day <= last]
        for day in days[: self.times or None]:
            yield dt.datetime.combine(day, first.time())

    def next_after(self, first: dt.datetime, after: dt.datetime | None) -> dt.datetime | None:
        """The first of its dates, later than a local time (None: the very first); None when there
        is none any more."""
        return next((date for date in self.dates(first) if after is None or date > after), None)

    def words(self, first: dt.datetime | None = None) -> Wording:
        """As it is read: “every second Wednesday”; `first` gives day and month of a yearly one."""
        said = self._said(first)
        if self.times:
            return Wording("%(said)s, %(times)s times", said=said, times=self.times)
        if self.until:
            return Wording("%(said)s, until %(day)s", said=said, day=wording.day(self.until))
        return said

    def kept(self) -> "Rhythm":
        """The same without its end."""
        return dataclasses.replace(self, times=0, until=None)

    def _said(self, first: dt.datetime | None) -> Wording:
        if self.on:
            days = wording.joined([wording.day(day) for day in self.on], "and")
            return Wording("on %(days)s", days=days)
        if self.unit == "week" and self.days:
            return self._weekly()
        if self.unit == "month" and (self.month_day or self.nth):
            return Wording("%(day)s of %(month)s", day=self._of_month(), month=self._months())
        if self.every == 1:
            return {
                "day": Wording("every day"),
                "week": Wording("every week"),
                "month": Wording("every month"),
                "year": Wording("every year"),
            }[self.unit]
        if self.every == 2 and self.unit == "day":
            return Wording("every second day")
        return Wording("every %(time)s", time=wording.count_of(self.every, self.unit))

    def _weekly(self) -> Wording:
        if self.every == 1 and self.days == WEEKDAYS:
            return Wording("every weekday")
        names = wording.joined([DAY_NAMES[day] for day in self.days], "and")
        if self.every == 1:
            return Wording("every %(days)s", days=names)
        if self.every == 2 and len(self.days) == 1:
            return Wording("every second %(days)s", days=names)
        weeks = wording.count_of(self.every, "week")
        return Wording("every %(weeks)s on %(days)s", weeks=weeks, days=names)

    def _of_month(self) -> Wording:
        if self.month_day == -1:
            return Wording("the last day")
        if self.month_day:
            return Wording("day %(day)s", day=self.month_day)
        which = {
            1: Wording("the first %(day)s", day=DAY_NAMES[self.days[0]]),
            2: Wording("the second %(day)s", day=DAY_NAMES[self.days[0]]),
            3: Wording("the third %(day)s", day=DAY_NAMES[self.days[0]]),
            4: Wording("the fourth %(day)s", day=DAY_NAMES[self.days[0]]),
            5: Wording("the fifth %(day)s", day=DAY_NAMES[self.days[0]]),
            -1: Wording("the last %(day)s", day=DAY_NAMES[self.days[0]]),
        }
        return which[self.nth]

    def _months(self) -> Wording:
        has_all = self.month_day <= 28 and self.nth != 5
        if self.every == 1:
            return Wording("each month") if has_all else Wording("each month that has one")
        months = wording.count_of(self.every, "month")
        if has_all:
            return Wording("the month, every %(months)s", months=months)
        return Wording("the month, every %(months)s, where there is one", months=months)


def _whole(parts: dict[str, str], name: str, otherwise: int) -> int:
    text = parts.pop(name, "")
    try:
        return int(text) if text else otherwise
    except ValueError:
        raise RhythmError(Wording("“%(text)s” is not a number.", text=text)) from None


def _day(text: str) -> dt.date | None:
    """The day of UNTIL, which may come with a time."""
    try:
        return dt.datetime.strptime(text[:8], "%Y%m%d").date() if text else None  # noqa: DTZ007
    except ValueError:
        raise RhythmError(Wording("“%(text)s” is not a date.", text=text)) from None


def _by_day(text: str) -> tuple[tuple[int, ...], int]:
    """Days of the week, and which of the month, of BYDAY: "2WE" → ((2,), 2)."""
    found, which = set(), set()
    for part in text.split(",") if text else []:
        match = re.fullmatch(r"([+-]?\d)?(MO|TU|WE|TH|FR|SA|SU)", part.strip())
        if not match:
            raise RhythmError(Wording("“%(text)s” is not a day of the week.", text=part))
        found.add(_CODES.index(match[2]))
        which.add(int(match[1] or 0))
    if len(which) > 1:
        raise RhythmError("Say which of the month’s days it is: the second Wednesday, say.")
    return tuple(sorted(found)), which.pop() if which else 0


_ORDER = {
    "first": 1,
    "1st": 1,
    "second": 2,
    "2nd": 2,
    "other": 2,
    "third": 3,
    "3rd": 3,
    "fourth": 4,
    "4th": 4,
    "fifth": 5,
    "5th": 5,
    "last": -1,
}
_DAY_WORD = {name.lower(): n for n, name in enumerate(DAY_NAMES)} | {
    name.lower()[:3]: n for n, name in enumerate(DAY_NAMES)
}
_ALIKE = {
    "daily": "every day",
    "weekly": "every week",
    "fortnightly": "every 2 weeks",
    "monthly": "every month",
    "yearly": "every year",
    "annually": "every year",
    "quarterly": "every 3 months",
    "each": "every",
}
_MONTH_WORD = {name.lower(): n for n, name in enumerate(wording.MONTHS, 1)} | {
    name: n for n, name in enumerate(wording.MONTH_NAMES, 1)
}
_FILL = frozenset({"on", "the", "of", "in", "and", "at", ""})


def read(text: str, first: dt.date) -> Rhythm:
    """A rule as somebody types it: “every second Wednesday”, “the last day of each month”; what is
    not said of the day is that of the first date. Raises RhythmError naming what was not
    understood."""
    if days_named := _days_named(text, first):
        return Rhythm("", on=days_named)._checked()
    words = re.sub(r"[,.;]", " ", text.lower()).split()
    words = " ".join(_ALIKE.get(word, word) for word in words).split()
    every, unit, days, month_day, nth = 1, "", set[int](), 0, 0
    monthly = any(word.rstrip("s") == "month" for word in words)
    unknown = []
    for place, word in enumerate(words):
        before = words[place - 1] if place else ""
        follows = words[place + 1] if place + 1 < len(words) else ""
        single = word.rstrip("s") if word not in _DAY_WORD else word
        number = wording.NUMBERS.get(word, int(word) if word.isdecimal() and len(word) < 5 else 0)
        if word in _FILL or word == "every":
            continue
        if single in UNITS:
            if single == "day" and before == "last":
                month_day, nth, unit = -1, 0, unit or "month"
            elif not unit or unit == "week" and single == "month":
                unit = single
        elif single in ("weekday", "workday"):
            days |= set(WEEKDAYS)
            unit = unit or "week"
        elif single == "fortnight":
            every, unit = 2, "week"
        elif single == "quarter":
            every, unit = 3, "month"
        elif single in _DAY_WORD:
            days.add(_DAY_WORD[single])
            unit = unit or "week"
        elif word in _ORDER and follows.rstrip("s") in (*UNITS, *_DAY_WORD):
            # “Every second Wednesday” is every two weeks, “every second Wednesday of the month” and
            # “every first Wednesday” are days of the month.
            of_month = follows in _DAY_WORD and (monthly or word == "first")
            if before == "every" and word != "last" and not of_month:
                every = _ORDER[word]
            else:
                nth = _ORDER[word]
        elif number and follows.rstrip("s") in UNITS:
            every = number
        elif (match := re.fullmatch(r"(\d{1,2})(st|nd|rd|th)?", word)) and 1 <= int(match[1]) <= 31:
            month_day = int(match[1])
        else:
            unknown.append(word)
    if unknown:
        raise RhythmError(
            Wording(
                "“%(words)s” was not understood. Write it like “every second Wednesday” or “the "
                "last day of each month”.",
                words=" ".join(unknown),
            )
        )
    return _made(every, unit, tuple(sorted(days)), month_day, nth, first)


def _days_named(text: str, first: dt.date) -> tuple[dt.date, ...]:
    """The days that a text names one by one, the first date with them; nothing for a text that is a
    rule. A day without a year is the next one of that name. Raises RhythmError for a day that does
    not exist."""
    words = [word for word in re.sub(r"[,.;]", " ", text.lower()).split() if word not in _FILL]
    if not any(word in _MONTH_WORD or re.fullmatch(r"\d{4}-\d\d-\d\d", word) for word in words):
        return ()
    found, days, month = {first}, list[int](), 0
    for word in [*words, ""]:
        number = re.fullmatch(r"(\d{1,2})(st|nd|rd|th)?", word)
        if month and not re.fullmatch(r"\d{4}", word):
            found |= {_real(first, None, month, day) for day in days}
            days, month = [], 0
        if not word:
            break
        if word in _MONTH_WORD and days:
            month = _MONTH_WORD[word]
        elif month:
            found |= {_real(first, int(word), month, day) for day in days}
            days, month = [], 0
        elif number:
            days.append(int(number[1]))
        elif re.fullmatch(r"\d{4}-\d\d-\d\d", word):
            found.add(_real(first, *map(int, word.split("-"))))
        else:
            return ()
    if days:
        raise RhythmError(Wording("Which month is day %(day)s of?", day=days[0]))
    return tuple(sorted(found))


def _real(first: dt.date, year: int | None, month: int, day: int) -> dt.date:
    """A day that was named; without a year the next one from the first date on. Raises
    RhythmError."""
    for candidate in (year,) if year else range(first.year, first.year + 9):
        try:
            named = dt.date(candidate, month, day)
        except ValueError:
            continue
        if year or named >= first:
            return named
    raise RhythmError(
        Wording("There is no %(day)s.", day=f"{day} {wording.MONTHS[(month - 1) % 12]}")
    )


def _made(
    every: int, unit: str, days: tuple[int, ...], month_day: int, nth: int, first: dt.date
) -> Rhythm:
    """A rule of what was read; what was not said is that of the first date."""
    if month_day or nth and days:
        unit = "month"
    if not unit:
        raise RhythmError("Say how often: “every day”, “every second Wednesday”, “every month”.")
    if unit == "week" and not days:
        days = (first.weekday(),)
    if unit == "month" and not (month_day or days):
        month_day = first.day
    if unit == "day":
        days = ()
    return Rhythm(unit, every, days, month_day, nth)._checked()


def offered(first: dt.date) -> list[Rhythm]:
    """The rules that a first date brings to mind."""
    nth, day = (first.day - 1) // 7 + 1, (first.weekday(),)
    is_last = (first + dt.timedelta(days=1)).month != first.month
    return [
        Rhythm("day"),
        Rhythm("week", 1, WEEKDAYS),
        Rhythm("week", 1, day),
        Rhythm("week", 2, day),
        Rhythm("month", 1, day, 0, nth),
        Rhythm("month", 1, (), -1 if is_last else first.day),
    ]


def at_words(rhythm: Rhythm, first: dt.datetime) -> Wording:
    """A rule with its time: “every second Wednesday at 15:30”."""
    return Wording(
        "%(rhythm)s at %(time)s",
        rhythm=rhythm.words(first),
        time=time_words(first.hour * 60 + first.minute),
    )
