"""A typed sentence taken apart: negation, how often, when, how much; what remains is what it is about."""

import calendar
import dataclasses
import datetime as dt
import re
from collections.abc import Callable
from typing import Any

from meadowrun.core.wording import fold

_NUMBERS = {"zero": 0, "one": 1, "two": 2, "three": 3, "four": 4, "five": 5, "six": 6, "seven": 7, "eight": 8, "nine": 9, "ten": 10,
            "eleven": 11, "twelve": 12, "once": 1, "twice": 2, "a": 1, "an": 1}
_N = r"(\d[\d,]*|" + "|".join(_NUMBERS) + ")"
_UNIT = {"day": 1, "night": 1, "week": 7, "month": 30, "quarter": 91, "year": 365}
_MONTHS = {m.lower(): n for n, m in enumerate(calendar.month_name) if m} | {m.lower(): n for n, m in enumerate(calendar.month_abbr) if m}
_NOT = re.compile(r"\b(did not|didn.?t|do not|don.?t|does not|doesn.?t|has not|hasn.?t|have not|haven.?t|was not|wasn.?t|were not|"
                  r"is not|isn.?t|are not|aren.?t|cannot|can.?t|never|not|no|without)\b")
_LEAD = re.compile(r"^(and |or |but )?(everyone |everybody |anyone |anybody |people |persons |those |contacts |all )?"
                   r"(who |whose |that |with |which )?(have |has |had |are |is |was |were |their |the )*")


@dataclasses.dataclass
class When:
    """`kind` is last, next, since, until, between, ago, ahead or ever; days and dates as each needs."""

    kind: str = ""
    days: int = 0
    first: dt.date | None = None
    last: dt.date | None = None


@dataclasses.dataclass
class Said:
    """A sentence taken apart: what remains is what it is about."""

    rest: str
    not_: bool = False
    times: tuple[str, int] | None = None
    when: When = dataclasses.field(default_factory=When)
    #: comparison and number: more_than, at_least, less_than, at_most, is; or between and two numbers
    amount: tuple[str, Any] | None = None
    total: bool = False


def take_apart(text: str, today: dt.date) -> Said:
    rest = " " + fold(text).strip(" .!?") + " "
    rest = " " + _LEAD.sub("", rest.strip()) + " "
    said = Said(rest)
    for taker in (_take_not, _take_when, _take_times, _take_amount):
        taker(said, today)
    said.rest = " ".join(said.rest.split())
    return said


def _take_not(said: Said, _: dt.date) -> None:
    # “is not 10” keeps its “is”: a number alone would be no comparison.
    said.rest, count = _NOT.subn(lambda m: " is " if re.match(r" [£$€]?-?\d", m.string[m.end():]) and m[0].startswith("is") else " ", said.rest)
    said.not_ = count % 2 == 1


def _take(said: Said, pattern: str) -> re.Match[str] | None:
    found = re.search(pattern, said.rest)
    if found:
        said.rest = said.rest[:found.start()] + " " + said.rest[found.end():]
    return found


def _int(text: str) -> int:
    return _NUMBERS.get(text) if text in _NUMBERS else int(text.replace(",", ""))  # type: ignore[return-value]


def _days(number: str | None, unit: str) -> int:
    return (_int(number) if number else 1) * _UNIT[unit.rstrip("s")]


def _take_when(said: Said, today: dt.date) -> None:
    unit = r"(days?|nights?|weeks?|months?|quarters?|years?)\b"
    if m := _take(said, rf"\bmore than {_N} {unit} (ago|ahead|from now)"):
        said.when = When("ago" if m[3] == "ago" else "ahead", _days(m[1], m[2]))
    elif m := _take(said, r"(?<!the )\b(this|last) (year|month|week)\b"):
        said.when = _calendar(m[1], m[2], today)
    elif m := _take(said, rf"\b(?:in|within|during|over|for)? ?(?:the )?(?:last|past|previous) (?:{_N} )?{unit}"):
        said.when = When("last", _days(m[1], m[2]))
    elif m := _take(said, rf"\b(?:in|within|during)? ?(?:the )?(?:next|coming|following) (?:{_N} )?{unit}"):
        said.when = When("next", _days(m[1], m[2]))
    elif m := _take(said, rf"\b(?:within|in) {_N} {unit}"):
        said.when = When("within", _days(m[1], m[2]))
    elif m := _take(said, rf"\bfor {_N} {unit}"):
        said.when = When("last", _days(m[1], m[2]))
    elif _take(said, r"\btoday\b"):
        said.when = When("last", 0)
    elif _take(said, r"\b(ever|at any time)\b"):
        said.when = When("ever")
    else:
        _take_dates(said, today)


def _calendar(which: str, unit: str, today: dt.date) -> When:
    first = {"year": today.replace(month=1, day=1), "month": today.replace(day=1), "week": today - dt.timedelta(days=today.weekday())}[unit]
    if which == "this":
        return When("since", first=first)
    end = first - dt.timedelta(days=1)
    start = {"year": end.replace(month=1, day=1), "month": end.replace(day=1), "week": end - dt.timedelta(days=6)}[unit]
    return When("between", first=start, last=end)


#: holiday → its first and last day of a year
_HOLIDAYS: dict[str, Callable[[int], tuple[dt.date, dt.date]]] = {
    "christmas": lambda year: (dt.date(year, 12, 24), dt.date(year, 12, 26)),
    "new year": lambda year: (dt.date(year, 1, 1), dt.date(year, 1, 1)),
    "halloween": lambda year: (dt.date(year, 10, 31), dt.date(year, 10, 31)),
    "valentine": lambda year: (dt.date(year, 2, 14), dt.date(year, 2, 14)),
    "easter": lambda year: (easter(year) - dt.timedelta(days=2), easter(year) + dt.timedelta(days=1))}


def easter(year: int) -> dt.date:
    """Easter Sunday of a year of the Gregorian calendar. Source: the rule printed in Nature, 20 April 1876, p. 487."""
    a, (b, c) = year % 19, divmod(year, 100)
    d, e = divmod(b, 4)
    g = (b - (b + 8) // 25 + 1) // 3
    h = (19 * a + b - d - g + 15) % 30
    i, k = divmod(c, 4)
    rest = (32 + 2 * e + 2 * i - h - k) % 7
    m = (a + 11 * h + 22 * rest) // 451
    month, day = divmod(h + rest - 7 * m + 114, 31)
    return dt.date(year, month, day + 1)


def _take_holiday(said: Said, today: dt.date) -> bool:
    """“last Christmas”, “since Easter”: the latest that has begun. True when there was one."""
    m = _take(said, r"\b(?:(since|after|before|until|last|this|over|at|on|around|during|for) )?(?:the )?"
                    rf"({'|'.join(_HOLIDAYS)})"
                    r"(?:[’']?s)?(?: day| eve| weekend| holidays?)?(?= |$)")
    if m is None:
        return False
    days = _HOLIDAYS[m[2]]
    first, last = days(today.year) if days(today.year)[0] <= today else days(today.year - 1)
    said.when = {"since": When("since", first=first), "after": When("after", first=last), "before": When("before", last=first),
                 "until": When("until", last=last)}.get(m[1] or "", When("between", first=first, last=last))
    return True


def _take_dates(said: Said, today: dt.date) -> None:
    if _take_holiday(said, today):
        return
    names = "|".join(sorted(_MONTHS, key=len, reverse=True))
    date = rf"(\d{{4}}-\d\d-\d\d|\d{{1,2}}(?:st|nd|rd|th)? (?:of )?(?:{names})(?: \d{{4}})?|(?:{names}) \d{{1,2}}(?:st|nd|rd|th)?(?:,? \d{{4}})?|"\
           rf"(?:{names})(?: \d{{4}})?|\d{{4}})"
    if m := _take(said, rf"\b(?:between|from) {date} (?:and|to|until) {date}\b"):
        first, last = _date(m[1], today), _date(m[2], today, end=True)
        if first and last:
            said.when = When("between", first=min(first, last), last=max(first, last))
    elif m := _take(said, rf"\b(since|after|from|before|until|up to|on|in) {date}(?= |$)"):
        first, last = _date(m[2], today), _date(m[2], today, end=True)
        if first and last:
            if m[1] in ("since", "from"):
                said.when = When("since", first=first)
            elif m[1] == "after":
                said.when = When("after", first=last)
            elif m[1] == "before":
                said.when = When("before", last=first)
            elif m[1] in ("until", "up to"):
                said.when = When("until", last=last)
            else:
                said.when = When("between", first=first, last=last)


def _date(text: str, today: dt.date, end: bool = False) -> dt.date | None:
    """A typed date; a month or year alone stands for its first day, or its last with `end`. Without a year, the latest past."""
    try:
        if re.fullmatch(r"\d{4}-\d\d-\d\d", text):
            return dt.date.fromisoformat(text)
        if re.fullmatch(r"\d{4}", text):
            return dt.date(int(text), 12, 31) if end else dt.date(int(text), 1, 1)
        month = next(_MONTHS[w] for w in re.findall(r"[a-z]+", text) if w in _MONTHS)
        numbers = [int(n) for n in re.findall(r"\d+", text)]
        year = next((n for n in numbers if n > 31), None)
        day = next((n for n in numbers if n <= 31), None)
        if year is None:
            year = today.year if dt.date(today.year, month, min(day or 1, 28)) <= today else today.year - 1
        last = calendar.monthrange(year, month)[1]
        return dt.date(year, month, day or (last if end else 1))
    except (ValueError, StopIteration):
        return None


def _take_times(said: Said, _: dt.date) -> None:
    if m := _take(said, rf"\b(at least|at most|exactly|more than|less than|fewer than|over|under|only)? ?{_N} times?( or more| or less)?\b"):
        said.times = _compared(m[1] or "", _int(m[2]), m[3] or "")
    elif m := _take(said, r"\b(at least|at most|exactly|only|more than)? ?(once|twice)( or more)?\b"):
        said.times = _compared(m[1] or "", _NUMBERS[m[2]], m[3] or "")


def _compared(word: str, n: int, after: str) -> tuple[str, int]:
    if word in ("at most",) or after.strip() == "or less":
        return "at_most", n
    if word in ("less than", "fewer than", "under"):
        return "at_most", max(0, n - 1)
    if word in ("exactly", "only"):
        return "exactly", n
    return "at_least", n + 1 if word in ("more than", "over") else n


_AMOUNTS = {word: op for op, words in {
    "at_least": ("at least", ">="), "at_most": ("at most", "up to", "<="), "more_than": ("more than", "over", "above", ">"),
    "less_than": ("less than", "under", "below", "<"), "is": ("of", "is", "=")}.items() for word in words}


def _take_amount(said: Said, _: dt.date) -> None:
    said.total = bool(_take(said, r"\b(in total|altogether|in all|all together)\b"))
    if m := _take(said, r"\bbetween [£$€]?(-?\d[\d,]*(?:\.\d+)?) and [£$€]?(-?\d[\d,]*(?:\.\d+)?)(?= |$)"):
        first, second = (float(m[place].replace(",", "")) for place in (1, 2))
        said.amount = ("between", [min(first, second), max(first, second)])
    elif m := _take(said, r"(?<!\w)(at least|at most|more than|less than|over|above|under|below|up to|of|is|=|>=|<=|>|<)"
                          r" *[£$€]?(-?\d[\d,]*(?:\.\d+)?)"
                          r"(?: or (more|less))?(?= |$)"):
        said.amount = ({"more": "at_least", "less": "at_most"}.get(m[3]) or _AMOUNTS[m[1]], float(m[2].replace(",", "")))
    elif said.rest.strip() and (m := _take(said, r"\b(\d[\d,]*(?:\.\d+)?) or (more|less)\b")):
        said.amount = ("at_least" if m[2] == "more" else "at_most", float(m[1].replace(",", "")))
