"""The plain evaluator: does one person match, and why. Slow and simple, the judge of the fast ones."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Mapping, Sequence
from typing import Any

from meadowrun.core.audience.dates import month_days, rolling
from meadowrun.core.audience.definition import Definition, EventLine, FieldLine, Group, Node, Span
from meadowrun.core.audience.fields import Dictionary


@dataclasses.dataclass(frozen=True, slots=True)
class Happening:
    event: str
    at: dt.datetime
    details: Mapping[str, Any]


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """`values` by field ref; a missing or None value is blank, and so is an empty text."""

    values: Mapping[str, Any]
    events: Sequence[Happening]


def span_moments(span: Span, now: dt.datetime, zone: dt.tzinfo) -> tuple[dt.datetime | None, dt.datetime | None]:
    """The half-open span of moments [from, to) that a Span means: whole calendar days on the zone's clock."""
    def midnight(day: dt.date) -> dt.datetime:
        return dt.datetime.combine(day, dt.time(), zone).astimezone(dt.UTC)
    if span.last is not None:
        return midnight(rolling("in_last", span.last, now.astimezone(zone).date())[0]), None
    return (midnight(span.first) if span.first else None,
            midnight(span.until + dt.timedelta(days=1)) if span.until else None)


def holds(kind: str, op: str, wanted: Any, value: Any, today: dt.date) -> bool:
    """One comparison. A blank value matches nothing but "is blank"."""
    blank = value is None or value == "" or value == []
    if op == "blank":
        return blank
    if op == "not_blank":
        return not blank
    if blank:
        return False
    if kind == "yes_no":
        return bool(value is (op == "yes"))
    if kind == "choice":
        return (value in wanted) == (op == "is")
    if kind == "choices":
        return any(v in wanted for v in value) == (op == "has")
    if kind == "text":
        text = str(value).lower()
        if op in ("is", "is_not"):
            return (text in [w.lower() for w in wanted]) == (op == "is")
        if op == "begins":
            return text.startswith(wanted.lower())
        return (wanted.lower() in text) == (op == "contains")
    if kind == "number":
        if op == "between":
            return bool(wanted[0] <= value <= wanted[1])
        return bool({"is": value == wanted, "at_least": value >= wanted, "at_most": value <= wanted}[op])
    day = dt.date.fromisoformat(value)
    if op in ("in_next", "in_last"):
        first, last = rolling(op, wanted, today)
        return first <= day <= last
    if op == "yearly_next":
        return f"{day:%m-%d}" in month_days(today, wanted)
    if op == "between":
        return bool(wanted[0] <= day <= wanted[1])
    return bool({"on": day == wanted, "before": day < wanted, "after": day > wanted}[op])


def matches(definition: Definition, person: Person, words: Dictionary, now: dt.datetime,
            zone: zoneinfo.ZoneInfo) -> bool:
    """Whether one person is in the segment."""
    return all(node_holds(n, person, words, now, zone) for n in definition.lines if not n.off)


def node_holds(node: Node, person: Person, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> bool:
    today = now.astimezone(zone).date()
    if isinstance(node, Group):
        answers = [node_holds(n, person, words, now, zone) for n in node.lines if not n.off]
        if not answers:
            return True
        return {"all": all(answers), "any": any(answers), "none": not any(answers)}[node.match]
    if isinstance(node, FieldLine):
        return holds(words.fields[node.field].type, node.op, node.value, person.values.get(node.field), today)
    return _event_holds(node, person, words, now, zone, today)


def _event_holds(line: EventLine, person: Person, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo,
                 today: dt.date) -> bool:
    first, until = span_moments(line.span, now, zone)
    spec = words.events[line.event]

    def fits(happening: Happening) -> bool:
        if happening.event != line.event or (first and happening.at < first) or (until and happening.at >= until):
            return False
        for wanted in line.where:
            detail = spec.detail(wanted.detail)
            if detail is None or not holds(detail.type, wanted.op, wanted.value,
                                           happening.details.get(wanted.detail), today):
                return False
        return True

    n = sum(1 for happening in person.events if fits(happening))
    if not line.did:
        return n == 0
    return {"at_least": n >= line.times, "exactly": n == line.times, "at_most": n <= line.times}[line.times_op]
