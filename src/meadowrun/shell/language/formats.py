"""Numbers, days and times as they are written where the reader lives (Unicode CLDR, by Babel)."""

import datetime as dt
import functools
import re
from collections.abc import Callable
from typing import Any

import babel
from babel import dates, numbers


class ByLocale:
    """The formats of one locale, such as `en_US` or `de`."""

    def __init__(self, locale: babel.Locale):
        self._locale = locale
        self._by: dict[str, Callable[[Any], str]] = {
            "number": self._number,
            "percent": self._percent,
            "decimal": lambda value: numbers.format_decimal(
                value[0], _pattern(value[1]), self._locale
            ),
            "signed": self._signed,
            "day": functools.partial(self._skeleton, "yMMMd"),
            "day_month": functools.partial(self._skeleton, "MMMd"),
            "span": self._span,
            "weekday": lambda value: dates.format_date(value, "ccc", locale),
            "weekday_day": functools.partial(self._skeleton, "MMMEd"),
            "weekday_date": functools.partial(self._skeleton, "yMMMEd"),
            "month": functools.partial(self._skeleton, "yMMM"),
            "long_month": functools.partial(self._skeleton, "yMMMM"),
            "short_month": lambda value: dates.format_date(value, "LLL", locale),
            "time": lambda value: dates.format_time(_time(value), "short", locale=locale),
            "seconds": lambda value: dates.format_time(_time(value), "medium", locale=locale),
        }

    def written(self, how: str, value: Any) -> str:
        """A value as it is written there; `how` is that of a `core.language.Figure`."""
        return self._by[how](value)

    def _number(self, value: float) -> str:
        return numbers.format_decimal(value, "#,##0.##########", self._locale)

    def _percent(self, value: tuple[float, int]) -> str:
        share, places = value
        pattern = self._locale.percent_formats[None].pattern
        if places:
            pattern = re.sub(r"0(?=\D*$)", f"0.{'0' * places}", pattern)
        return numbers.format_percent(share / 100, pattern, self._locale)

    def _signed(self, value: tuple[float, int]) -> str:
        amount, places = value
        pattern = _pattern(places)
        return numbers.format_decimal(amount, f"+{pattern};-{pattern}", self._locale)

    def _skeleton(self, skeleton: str, value: dt.date) -> str:
        return dates.format_skeleton(skeleton, value, locale=self._locale)

    def _span(self, value: tuple[dt.date, dt.date]) -> str:
        first, last = value
        return dates.format_interval(first, last, "yMMMd", locale=self._locale)


def _pattern(places: int) -> str:
    """How a number with so many places is written (Unicode CLDR, number patterns)."""
    return "#,##0" + (f".{'0' * places}" if places else "")


def _time(value: dt.datetime | dt.time) -> dt.time:
    """The time of day of a moment, in its own zone."""
    return value.time() if isinstance(value, dt.datetime) else value


@functools.cache
def of(locale: str) -> ByLocale | None:
    """The formats of a locale; None where they are those that texts are made with."""
    return None if locale == "en_GB" else ByLocale(babel.Locale.parse(locale))


def chosen(language: str, accepted: "list[str]") -> str:
    """The locale of a page: of those that a browser asks for, the first in the language of the page
    that names a place; else the language as it is, and for English that of Britain."""
    for one in accepted:
        named = one.replace("-", "_")
        if named.partition("_")[0].lower() == language and "_" in named:
            found = babel.negotiate_locale([named], _known())
            if found is not None and "_" in found:
                return found
    return "en_GB" if language == "en" else language


@functools.cache
def _known() -> list[str]:
    """All locales there are."""
    return babel.localedata.locale_identifiers()
