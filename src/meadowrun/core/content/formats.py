"""How a filled-in value may be written: dates, money, capitals, lists. Each takes what it cannot
format as it is."""

import datetime as dt
import re
from collections.abc import Callable
from typing import Any
from urllib.parse import quote

from meadowrun.core import wording
from meadowrun.core.language import Wording, plain


def _date(value: Any) -> dt.date | None:
    try:
        return dt.date.fromisoformat(str(value)[:10]) if value else None
    except ValueError:
        return None


def _day(value: Any) -> Any:
    found = _date(value)
    return plain(wording.day(found)) if found else value


def _weekday(value: Any) -> Any:
    found = _date(value)
    return f"{found:%A} {found.day} {found:%B}" if found else value


def _time(value: Any) -> Any:
    found = re.search(r"[T ](\d\d:\d\d)", str(value))
    return found.group(1) if found else value


_MOMENT = re.compile(
    r"(\d{4}-\d\d-\d\d)(?:[T ](\d\d:\d\d)(?::\d\d(?:\.\d+)?)?(?:Z|[+-]\d\d:?\d\d)?)?"
)


def in_words(text: str) -> str:
    """A day, or a moment, that stands as machines write it, as people do: 27 Nov 2026, 18:30. Any
    other text as it is."""
    found = _MOMENT.fullmatch(text) if text[:1].isdigit() else None
    date = _date(found.group(1)) if found else None
    if found is None or date is None:
        return text
    return plain(wording.day(date)) + (f", {found.group(2)}" if found.group(2) else "")


def _text(value: Any) -> str:
    """A value as a text, lists in words."""
    if isinstance(value, list | tuple):
        return ", ".join(map(_text, value))
    return "yes" if value is True else "no" if value is False else str(value)


def _number(value: Any) -> Any:
    return (
        plain(wording.number(value))
        if isinstance(value, int | float) and not isinstance(value, bool)
        else value
    )


def _money(value: Any, sign: str = "") -> Any:
    """Two decimals, thousands apart: £1,234.50. What is not a number stays as it is."""
    try:
        return (
            f"{sign}{float(value):,.2f}"
            if value not in (None, "") and not isinstance(value, bool)
            else value
        )
    except (TypeError, ValueError):
        return value


def _titled(value: Any) -> Any:
    """Capitals at the start of each word, leaving mixed case (McKay, O’Hara) as it is."""
    if not value:
        return value
    words = _text(value).split(" ")
    return " ".join(w.capitalize() if w.isupper() or w.islower() else w for w in words)


def _upper(value: Any) -> Any:
    return value if value is None else _text(value).upper()


def _lower(value: Any) -> Any:
    return value if value is None else _text(value).lower()


def _sentence(value: Any) -> Any:
    text = _text(value) if value else ""
    return text[:1].upper() + text[1:] or value


def _list(value: Any) -> Any:
    """Several choices as they are read aloud: “dome, library and shop”."""
    if not isinstance(value, list | tuple) or len(value) < 2:
        return value
    *most, last = map(str, value)
    return Wording("%(most)s and %(last)s", most=", ".join(most), last=last)


def _encoded(value: Any) -> Any:
    """Percent-encoded, for a place inside an address (RFC 3986, 2.1). Blank stays blank, so that a
    fallback can step in."""
    if value is None or value == "":
        return value
    return quote(_text(value), safe="")


FILTERS: dict[str, Callable[..., Any] | None] = {
    "default": None,
    "upper": _upper,
    "lower": _lower,
    "titled": _titled,
    "sentence": _sentence,
    "day": _day,
    "weekday": _weekday,
    "time": _time,
    "number": _number,
    "money": _money,
    "list": _list,
    "encoded": _encoded,
}
#: How the formats are called where an author chooses one.
FORMATS = {
    "day": Wording("as a date, 23 Nov 2026"),
    "weekday": Wording("as Friday 27 November"),
    "time": Wording("as a time, 18:30"),
    "number": Wording("with thousands apart"),
    "money": Wording("as money, two places"),
    "titled": Wording("Capitals At The Start"),
    "sentence": Wording("Capital at the start"),
    "upper": Wording("ALL CAPITALS"),
    "lower": Wording("all lower case"),
    "list": Wording("a, b and c"),
}
#: Filters that may take one text, such as the sign of a currency.
WITH_TEXT = ("money",)
