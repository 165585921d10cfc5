"""When a typed sentence means: days, weeks, months, quarters, seasons, holidays, weekdays and
decades, with what stands before them."""

import calendar
import dataclasses
import datetime as dt
import math
import re
from collections.abc import Callable

from meadowrun.core.wording import NUMBERS

#: A number in digits or in words, as a group of a pattern.
N = r"(\d[\d,]*|" + "|".join(NUMBERS) + ")"
_UNIT = {
    "hour": 1 / 24,
    "day": 1,
    "night": 1,
    "week": 7,
    "fortnight": 14,
    "month": 30,
    "quarter": 91,
    "year": 365,
}
_UNITS = r"(hours?|days?|nights?|weeks?|fortnights?|months?|quarters?|years?)\b"
_MONTHS = {m.lower(): n for n, m in enumerate(calendar.month_name) if m} | {
    m.lower(): n for n, m in enumerate(calendar.month_abbr) if m
}
_MONTH = "|".join(sorted(_MONTHS, key=len, reverse=True))
_DAYS = {name.lower(): n for n, name in enumerate(calendar.day_name)}
_SEASONS = {"spring": 3, "summer": 6, "autumn": 9, "fall": 9, "winter": 12}
_ORDER = {"first": 1, "second": 2, "third": 3, "fourth": 4, "last": 4}
_DECADES = {"fifties": 1950, "sixties": 1960, "seventies": 1970, "eighties": 1980, "nineties": 1990}


@dataclasses.dataclass
class When:
    """`kind` is last, next, within, since, after, before, until, between, ago, ahead or ever; days
    and dates as each needs."""

    kind: str = ""
    days: int = 0
    first: dt.date | None = None
    last: dt.date | None = None
    #: no year was said: the latest such days were taken, though the next may be meant
    floating: bool = False
    #: the words it was read from
    words: str = ""


@dataclasses.dataclass(frozen=True)
class _Days:
    """From a day to a day."""

    first: dt.date
    last: dt.date
    floating: bool = False


def whole(text: str) -> int:
    """A number of N as a number."""
    return NUMBERS[text] if text in NUMBERS else int(text.replace(",", ""))


def days_of(number: str | None, unit: str) -> int:
    """So many of a unit, in days; hours count as the days they touch."""
    return math.ceil((whole(number) if number else 1) * _UNIT[unit.rstrip("s")])


#: pattern → what it means, of the ways to say a length of time. The first that fits is taken.
_LENGTHS: list[tuple[str, Callable[[re.Match[str]], When]]] = [
    (
        rf"\b(?:for )?(?:more|longer) than {N} {_UNITS} (ago|ahead|from now)",
        lambda m: When("ago" if m[3] == "ago" else "ahead", days_of(m[1], m[2])),
    ),
    (rf"\bfor (?:more|longer) than {N} {_UNITS}", lambda m: When("ago", days_of(m[1], m[2]))),
    (
        rf"\b(?:in|within|during|over|for)? ?(?:the )?(?:last|past|previous) {N} {_UNITS}",
        lambda m: When("last", days_of(m[1], m[2])),
    ),
    (
        rf"\b(?:in|within|during|over|for) (?:the )?(?:last|past|previous) {_UNITS}(?! of)",
        lambda m: When("last", days_of(None, m[1])),
    ),
    (
        rf"\b(?:in|within|during)? ?(?:the )?(?:next|coming|following) {N} {_UNITS}",
        lambda m: When("next", days_of(m[1], m[2])),
    ),
    (
        rf"\b(?:in|within|during) the (?:next|coming|following) {_UNITS}",
        lambda m: When("next", days_of(None, m[1])),
    ),
    (rf"\b(?:within|in) {N} {_UNITS}", lambda m: When("within", days_of(m[1], m[2]))),
    (rf"\bfor {N} {_UNITS}", lambda m: When("last", days_of(m[1], m[2]))),
    (r"\btoday\b", lambda m: When("last", 0)),
    (r"\b(?:ever|at any time)\b", lambda m: When("ever")),
    (r"\b(?:is |are |has |have )?(?:overdue|passed|past|expired)$", lambda m: When("ago", 0)),
]


def take_when(text: str, today: dt.date) -> tuple[When, str]:
    """When a folded text means, and what is left of it."""
    for pattern, meaning in _LENGTHS:
        if m := re.search(pattern, text):
            return dataclasses.replace(
                meaning(m), words=m[0]
            ), f"{text[: m.start()]} {text[m.end() :]}"
    return _range(text, today) or _period(text, today) or (When(), text)


def _range(text: str, today: dt.date) -> tuple[When, str] | None:
    """“between 1 and 15 November”, “from March to May 2026”, “between Easter and 1 June”."""
    if m := re.search(
        rf"\b(?:between|from) (?:the )?(\d{{1,2}})(?:st|nd|rd|th)?(?: and | to | until |-)(?:the "
        rf")?(\d{{1,2}})(?:st|nd|rd|th)? "
        rf"(?:of )?({_MONTH})(?: (\d{{4}}))?\b",
        text,
    ):
        ends = [
            _day_month(int(m[n]), _MONTHS[m[3]], int(m[4]) if m[4] else None, today) for n in (1, 2)
        ]
        if ends[0] and ends[1]:
            return _both(ends[0], ends[1], m, text)
    if m := re.search(
        (
            rf"\b(?:between|from) (?:the )?({_PERIOD})(?: and | to | until )(?:the "
            rf")?({_PERIOD})(?= "
            rf"|$)"
        ),
        text,
    ):
        found = [_days(m[name], today) for name in (1, 2 + _GROUPS)]
        if found[0] and found[1]:
            return _both(found[0], found[1], m, text)
    return None


def _year_on(day: dt.date) -> dt.date:
    return (
        day.replace(year=day.year + 1)
        if (day.month, day.day) != (2, 29)
        else dt.date(day.year + 1, 2, 28)
    )


def _both(one: _Days, two: _Days, m: re.Match[str], text: str) -> tuple[When, str]:
    if two.floating and two.last < one.first:
        # “between Easter and Christmas” ends at the Christmas that follows.
        two = dataclasses.replace(two, first=_year_on(two.first), last=_year_on(two.last))
    first, last = min(one.first, two.first), max(one.last, two.last)
    return When(
        "between", first=first, last=last, floating=one.floating and two.floating, words=m[0]
    ), f"{text[: m.start()]} {text[m.end() :]}"


def _period(text: str, today: dt.date) -> tuple[When, str] | None:
    m = re.search(
        rf"(?<![\w/-])(?<!\ba )(?<!\bany )(?<!\bevery )"
        rf"(?:(since|after|from|before|until|up to|by|on|in|at|over|during|around|for) )?(?:the "
        rf")?({_PERIOD})(?= |$)",
        text,
    )
    found = _days(m[2], today) if m else None
    if m is None or found is None:
        return None
    said, (first, last) = m[1] or "", (found.first, found.last)
    if said in ("since", "from") or not said and re.match(r"this (year|month|week|quarter)", m[2]):
        # “this year” is all of it for a date that may lie ahead, and up to now for what was done.
        when = When("since", first=first, last=None if said else last)
    elif said == "after":
        when = When("after", first=last)
    elif said == "before":
        when = When("before", last=first)
    elif said in ("until", "up to", "by"):
        when = When("until", last=last)
    elif re.match(r"this (year|month|week|quarter)", m[2]):
        when = When("since", first=first, last=last)
    else:
        when = When("between", first=first, last=last)
    return dataclasses.replace(
        when, floating=found.floating, words=m[0]
    ), f"{text[: m.start()]} {text[m.end() :]}"


_NAMED = (
    r"(?:christmas|new year|halloween|valentine|easter)(?:[’']?s)?(?: day| eve| weekend| "
    r"holidays?)?"
)
#: Every way to name days; its groups are counted on.
_PERIOD = "|".join(
    (
        r"\d{4}-\d\d-\d\d",
        rf"\d{{1,2}}(?:st|nd|rd|th)? (?:of )?(?:{_MONTH})(?:,? \d{{4}})?",
        rf"(?:{_MONTH}) \d{{1,2}}(?:st|nd|rd|th)?(?:,? \d{{4}})?(?!\d)",
        rf"(?:last |this |next )?(?:{_MONTH})(?:,? (?:of )?\d{{4}})?",
        rf"(?:last |this )?{_NAMED}(?: \d{{4}})?",
        r"(?:last |this |next )?(?:spring|summer|autumn|fall|winter)(?: (?:of )?\d{4})?",
        r"(?:first|second|third|fourth|last) quarter(?: (?:of )?(?:\d{4}|this year|last year))?",
        r"q[1-4](?: \d{4})?",
        r"(?:this|last|next) (?:year|month|week|quarter|weekend)",
        r"yesterday|tomorrow|today",
        r"(?:last |this |next )?(?:" + "|".join(_DAYS) + ")",
        r"(?:19|20)\d0[’']?s|" + "|".join(_DECADES) + r"|(?:[’'])?[5-9]0s",
        r"(?:19|20)\d\d",
    )
)
_GROUPS = re.compile(_PERIOD).groups


def _days(text: str, today: dt.date) -> _Days | None:
    """The days that a text of _PERIOD names; None where there are no such days, as on 31 June."""
    which, words = "", text.split()
    if words[0] in ("last", "this", "next") and words[1:2] != ["quarter"] and len(words) > 1:
        which, words = words[0], words[1:]
    rest = " ".join(words)
    if text in ("yesterday", "today", "tomorrow"):
        day = today + dt.timedelta(days={"yesterday": -1, "today": 0, "tomorrow": 1}[text])
        return _Days(day, day)
    if rest in ("year", "month", "week", "quarter", "weekend") or text in (
        "this quarter",
        "last quarter",
        "next quarter",
    ):
        return _calendar(which or words[0], words[-1], today)
    if rest in _DAYS:
        back = (today.weekday() - _DAYS[rest]) % 7
        day = today + dt.timedelta(
            days=7 - back if which == "next" and back else 7 if which == "next" else -back
        )
        return _Days(day - dt.timedelta(days=7) if which == "last" and not back else day, day)
    if m := re.fullmatch(
        (
            r"(?:(first|second|third|fourth|last) quarter|q([1-4]))(?: (?:of )?(\d{4}|this "
            r"year|last "
            r"year))?"
        ),
        text,
    ):
        quarter = int(m[2]) if m[2] else _ORDER[m[1]]
        said = {"this year": today.year, "last year": today.year - 1}.get(m[3]) or (
            int(m[3]) if m[3] else None
        )
        return _latest(lambda y: _months(y, quarter * 3 - 2, 3), said, "", today)
    if m := re.fullmatch(r"(spring|summer|autumn|fall|winter)(?: (?:of )?(\d{4}))?", rest):
        begins = _SEASONS[m[1]]
        return _latest(lambda y: _months(y, begins, 3), int(m[2]) if m[2] else None, which, today)
    if m := re.fullmatch(rf"{_NAMED}(?: (\d{{4}}))?", rest):
        name = next(name for name in _HOLIDAYS if rest.startswith(name))
        return _latest(
            lambda y: _HOLIDAYS[name](y),
            int(m[1]) if m[1] else None,
            "" if which == "last" else which,
            today,
        )
    if text in _DECADES or re.fullmatch(r"(?:(?:19|20)\d0|[’']?[5-9]0)[’']?s", text):
        number = _DECADES.get(text) or int(re.sub(r"\D", "", text))
        first = number if number > 99 else 1900 + number
        return _Days(dt.date(first, 1, 1), dt.date(first + 9, 12, 31))
    return _date(rest, which, today)


def _date(text: str, which: str, today: dt.date) -> _Days | None:
    """A typed date, month or year."""
    try:
        if re.fullmatch(r"\d{4}-\d\d-\d\d", text):
            return _Days(dt.date.fromisoformat(text), dt.date.fromisoformat(text))
        if re.fullmatch(r"\d{4}", text):
            return _Days(dt.date(int(text), 1, 1), dt.date(int(text), 12, 31))
        month = next(_MONTHS[w] for w in re.findall(r"[a-z]+", text) if w in _MONTHS)
        numbers = [int(n) for n in re.findall(r"\d+", text)]
        year = next((n for n in numbers if n > 31), None)
        day = next((n for n in numbers if n <= 31), None)
        if day is not None:
            return _day_month(day, month, year, today)
        return _latest(lambda y: _months(y, month, 1), year, which, today)
    except (ValueError, StopIteration):
        return None


def _day_month(day: int, month: int, year: int | None, today: dt.date) -> _Days | None:
    """A day of a month; without a year the latest that is not ahead."""
    try:
        if year is None:
            year = (
                today.year if dt.date(today.year, month, min(day, 28)) <= today else today.year - 1
            )
            return _Days(dt.date(year, month, day), dt.date(year, month, day), True)
        return _Days(dt.date(year, month, day), dt.date(year, month, day))
    except ValueError:
        return None


def _months(year: int, month: int, many: int) -> tuple[dt.date, dt.date]:
    """From the first day of a month to the last day of the one so many later."""
    end = month + many - 1
    last = dt.date(year + (end - 1) // 12, (end - 1) % 12 + 1, 1)
    return dt.date(year, month, 1), last.replace(day=calendar.monthrange(last.year, last.month)[1])


def _latest(
    of: Callable[[int], tuple[dt.date, dt.date]], year: int | None, which: str, today: dt.date
) -> _Days:
    """Days of a year; without one the latest that have begun, with “last” the latest that are over,
    with “next” the next to begin."""
    if year is not None:
        return _Days(*of(year))
    years = range(today.year + 1, today.year - 3, -1)
    if which == "next":
        return _Days(*next(of(y) for y in reversed(years) if of(y)[0] > today))
    if which == "last":
        return _Days(*next(of(y) for y in years if of(y)[1] < today))
    if which == "this":
        return _Days(*of(today.year))
    return _Days(*next(of(y) for y in years if of(y)[0] <= today), True)


def _calendar(which: str, unit: str, today: dt.date) -> _Days:
    """This, the last or the next year, quarter, month, week or weekend."""
    if unit in ("week", "weekend"):
        first = (
            today
            - dt.timedelta(days=today.weekday())
            + dt.timedelta(days={"last": -7, "this": 0, "next": 7}[which])
        )
        return (
            _Days(first, first + dt.timedelta(days=6))
            if unit == "week"
            else _Days(first + dt.timedelta(days=5), first + dt.timedelta(days=6))
        )
    many = {"year": 12, "quarter": 3, "month": 1}[unit]
    place = (today.month - 1) // many * many + {"last": -many, "this": 0, "next": many}[which]
    return _Days(*_months(today.year + place // 12, place % 12 + 1, many))


#: holiday → its first and last day of a year
_HOLIDAYS: dict[str, Callable[[int], tuple[dt.date, dt.date]]] = {
    "christmas": lambda year: (dt.date(year, 12, 24), dt.date(year, 12, 26)),
    "new year": lambda year: (dt.date(year, 1, 1), dt.date(year, 1, 1)),
    "halloween": lambda year: (dt.date(year, 10, 31), dt.date(year, 10, 31)),
    "valentine": lambda year: (dt.date(year, 2, 14), dt.date(year, 2, 14)),
    "easter": lambda year: (
        easter(year) - dt.timedelta(days=2),
        easter(year) + dt.timedelta(days=1),
    ),
}


def easter(year: int) -> dt.date:
    """Easter Sunday of a year of the Gregorian calendar. Source: the rule printed in Nature, 20
    April 1876, p. 487."""
    a, (b, c) = year % 19, divmod(year, 100)
    d, e = divmod(b, 4)
    g = (b - (b + 8) // 25 + 1) // 3
    h = (19 * a + b - d - g + 15) % 30
    i, k = divmod(c, 4)
    rest = (32 + 2 * e + 2 * i - h - k) % 7
    m = (a + 11 * h + 22 * rest) // 451
    month, day = divmod(h + rest - 7 * m + 114, 31)
    return dt.date(year, month, day + 1)
