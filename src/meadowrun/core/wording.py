"""How numbers, dates and names are written in sentences, the same everywhere."""

import datetime as dt
import unicodedata
from collections.abc import Collection, Sequence
from typing import Any

from meadowrun.core.language import Figure, Wording, forms, worded

#: Numbers that people write as words.
NUMBERS = {
    "zero": 0,
    "one": 1,
    "two": 2,
    "three": 3,
    "four": 4,
    "five": 5,
    "six": 6,
    "seven": 7,
    "eight": 8,
    "nine": 9,
    "ten": 10,
    "eleven": 11,
    "twelve": 12,
    "once": 1,
    "twice": 2,
    "a": 1,
    "an": 1,
}
#: The months in full, small, as they are typed; and as they are shown.
MONTH_NAMES = (
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
)
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def number(value: int | float) -> str:
    """1234 → "1,234"; a float loses a needless ".0"."""
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    return Figure.of(f"{value:,}".replace("-", "−"), "number", value)


def percent(value: float, places: int = 1) -> str:
    """12.34 → "12.3%"."""
    return Figure.of(f"{value:.{places}f}%", "percent", (value, places))


def decimal(value: float, places: int) -> str:
    """1234.5 → "1,234.50" with two places."""
    return Figure.of(f"{value:,.{places}f}".replace("-", "−"), "decimal", (value, places))


def signed(value: float, places: int = 1) -> str:
    """1.25 → "+1.3", as a difference is written."""
    return Figure.of(f"{value:+,.{places}f}".replace("-", "−"), "signed", (value, places))


def day(value: dt.date) -> str:
    """23 Nov 2026."""
    english = f"{value.day} {MONTHS[value.month - 1]} {value.year}"
    return Figure.of(english, "day", value)


def weekday(value: dt.date) -> str:
    """Mon."""
    return Figure.of(f"{value:%a}", "weekday", value)


def weekday_day(value: dt.date) -> str:
    """Mon 23 Nov."""
    english = f"{value:%a} {value.day} {MONTHS[value.month - 1]}"
    return Figure.of(english, "weekday_day", value)


def weekday_date(value: dt.date) -> str:
    """Mon 23 Nov 2026."""
    english = f"{value:%a} {value.day} {MONTHS[value.month - 1]} {value.year}"
    return Figure.of(english, "weekday_date", value)


def short_month(value: dt.date) -> str:
    """Nov."""
    return Figure.of(MONTHS[value.month - 1], "short_month", value)


def month(value: dt.date) -> str:
    """Nov 2026."""
    return Figure.of(f"{MONTHS[value.month - 1]} {value.year}", "month", value)


def long_month(value: dt.date) -> str:
    """November 2026."""
    return Figure.of(f"{value:%B %Y}", "long_month", value)


def time(value: dt.datetime | dt.time) -> str:
    """14:02, as the moment says it in its own zone."""
    return Figure.of(f"{value:%H:%M}", "time", value)


def seconds(value: dt.datetime | dt.time) -> str:
    """14:02:05, as the moment says it in its own zone."""
    return Figure.of(f"{value:%H:%M:%S}", "seconds", value)


def weekday_time(value: dt.datetime) -> str:
    """Mon 14:02, as the moment says it in its own zone."""
    return Wording("%(day)s %(time)s", day=weekday(value.date()), time=time(value))


def moment(value: dt.datetime) -> str:
    """23 Nov 2026, 14:02, as the moment says it in its own zone."""
    return Wording("%(day)s, %(time)s", day=day(value.date()), time=time(value))


def held(kind: str, value: Any) -> str:
    """A field's value as it is read, by the type of the field; nothing for a blank one."""
    if value is None or value == "" or value == []:
        return ""
    if kind == "yes_no":
        return "yes" if value is True else "no"
    if kind == "number":
        return number(value)
    if kind in ("date", "datetime"):
        if kind == "datetime":
            return moment(dt.datetime.fromisoformat(value[:16]))
        return day(dt.date.fromisoformat(value[:10]))
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def day_month(value: dt.date | str) -> str:
    """ "12-31" → "31 Dec"; also of a day of any year."""
    if isinstance(value, str):
        # A leap year knows all of them.
        value = dt.date(2024, int(value[:2]), int(value[3:]))
    return Figure.of(f"{value.day} {MONTHS[value.month - 1]}", "day_month", value)


def span(first: dt.date, last: dt.date) -> str:
    """ "23 Nov – 2 Dec 2026"; the year once where it is shared."""
    if first == last:
        return day(first)
    begins = str(day(first))
    if first.year == last.year:
        begins = f"{first.day} {MONTHS[first.month - 1]}"
    return Figure.of(f"{begins} – {day(last)}", "span", (first, last))


def share(part: int, whole: int, places: int = 1) -> str:
    """Part of whole as a percentage; "–" where there is no base, "under 0.1%" rather than a false
    zero."""
    if whole <= 0:
        return "–"
    value = 100 * part / whole
    smallest = 10**-places
    if 0 < value < smallest / 2:
        return Wording("under %(share)s", share=percent(smallest, places))
    if part < whole and value > 100 - smallest / 2:
        return Wording("over %(share)s", share=percent(100 - smallest, places))
    return percent(value, places)


def people(count: int) -> Wording:
    """1 → "1 person", 2 → "2 people"."""
    return count_of(count, "person", "people")


def count_of(count: float, one: str, many: str | None = None) -> Wording:
    """(1, "row") → "1 row"; (2, "row") → "2 rows"."""
    several = many or one + "s"
    return Wording.counted(f"%(n)s {one}", f"%(n)s {several}", count, n=number(count))


def joined(words: Sequence[str], last: str = "or") -> Wording:
    """["a", "b", "c"] → "a, b or c"."""
    if len(words) < 2:
        return worded("".join(words))
    return Wording(f"%(others)s {last} %(last)s", others=", ".join(words[:-1]), last=words[-1])


def free_name(wanted: str, taken: Collection[str]) -> str:
    """The name, with a number behind it where it is taken: "A letter, copy 2"."""
    number, name = 1, wanted
    while name in taken:
        number += 1
        name = f"{wanted} {number}"
    return name


def fold(text: str) -> str:
    """Lower case without accents and surplus spaces: how names and addresses are compared in
    searches."""
    if text.isascii():
        return " ".join(text.lower().split())
    plain = unicodedata.normalize("NFKD", text.casefold())
    return " ".join("".join(c for c in plain if not unicodedata.combining(c)).split())


#: Seconds of each unit, and how so many of them are said.
_AGO = (
    (86400 * 365, forms("%(n)s year ago", "%(n)s years ago")),
    (86400 * 30, forms("%(n)s month ago", "%(n)s months ago")),
    (86400, forms("%(n)s day ago", "%(n)s days ago")),
    (3600, forms("%(n)s hour ago", "%(n)s hours ago")),
    (60, forms("%(n)s minute ago", "%(n)s minutes ago")),
)


def ago(seconds: float) -> Wording:
    """How long ago, in the largest sensible unit."""
    for size, (one, several) in _AGO:
        if seconds >= size:
            count = int(seconds // size)
            return Wording.counted(one, several, count, n=number(count))
    return Wording("just now")


def masked(address: str) -> str:
    """An email address or phone number of which its owner recognises enough: z…@mail.example,
    +44…23."""
    name, at, host = address.rpartition("@")
    if at:
        return f"{name[:1]}…@{host}"
    return f"{address[:3]}…{address[-2:]}" if len(address) > 6 else address and "…"
