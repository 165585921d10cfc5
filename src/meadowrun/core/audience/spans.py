"""When something happened, as a line asks it: read, written, said, and as moments."""

import datetime as dt
from collections.abc import Callable, Mapping
from typing import Any

from meadowrun.core import wording
from meadowrun.core.audience.dates import Clock, rolling
from meadowrun.core.audience.nodes import Span
from meadowrun.core.audience.operands import DefinitionError, day, days
from meadowrun.core.language import Wording

DATE = {"type": "string", "format": "date", "pattern": r"^\d{4}-\d\d-\d\d$"}
#: A span as JSON Schema.
SPAN: dict[str, Any] = {
    "description": "Ever; the last so many calendar days; or from a day to a day, both inclusive",
    "oneOf": [
        {
            "type": "object",
            "additionalProperties": False,
            "properties": {"from": DATE, "to": DATE},
        },
        {
            "type": "object",
            "additionalProperties": False,
            "required": ["last"],
            "properties": {"last": {"type": "integer", "minimum": 0, "maximum": 36_500}},
        },
    ],
}
#: The smallest step of a moment in the database.
_MOMENT = dt.timedelta(microseconds=1)


def read_span(data: Mapping[str, Any], ident: str) -> Span:
    """{} (ever), {"last": N} calendar days, or {"from", "to"} with either end missing."""
    if "last" in data:
        return Span(last=days(data["last"], ident))
    first, until = (day(data[k], ident) if data.get(k) else None for k in ("from", "to"))
    if first and until and first > until:
        raise DefinitionError("The span ends before it begins.", ident)
    return Span(None, first, until)


def write_span(span: Span) -> dict[str, Any]:
    """The JSON of a span."""
    data: dict[str, Any] = {}
    if span.last is not None:
        data["last"] = span.last
    if span.first:
        data["from"] = span.first.isoformat()
    if span.until:
        data["to"] = span.until.isoformat()
    return data


def span_moments(
    span: Span, clock: Clock, zone: str | None
) -> tuple[dt.datetime | None, dt.datetime | None]:
    """The half-open span of moments [from, to) that a Span means: whole calendar days on the zone's
    clock, up to now. What lies ahead has not happened."""
    ends = clock.now + _MOMENT
    if span.last is not None:
        return clock.midnight(rolling("in_last", span.last, clock.today(zone))[0], zone), ends
    return (
        clock.midnight(span.first, zone) if span.first else None,
        min(ends, clock.midnight(span.until + dt.timedelta(days=1), zone)) if span.until else ends,
    )


def within(span: Span, clock: Clock, zone: str | None) -> Callable[[dt.datetime | None], bool]:
    """Tells whether a moment lies in a span, on a zone's clock."""
    first, until = span_moments(span, clock, zone)
    return lambda at: at is not None and not (first and at < first) and not (until and at >= until)


def span_words(span: Span) -> str:
    if span.last is not None:
        if span.last == 0:
            return Wording("today")
        return Wording("in the last %(days)s", days=wording.count_of(span.last, "day"))
    if span.first and span.first == span.until:
        return Wording("on %(day)s", day=wording.day(span.first))
    if span.first and span.until:
        return Wording(
            "from %(first)s to %(until)s",
            first=wording.day(span.first),
            until=wording.day(span.until),
        )
    if span.first:
        return Wording("since %(day)s", day=wording.day(span.first))
    if span.until:
        return Wording("up to %(day)s", day=wording.day(span.until))
    return Wording("at any time")
