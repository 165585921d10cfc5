"""A segment's definition: a tree of lines, as frozen values and as the JSON that is stored.

    {"format": 1, "lines": [node, …]}                                   all of the top lines must hold
    {"id", "kind": "group", "match": "all"|"any"|"none", "lines": […]}
    {"id", "kind": "field", "field", "op", "value"}
    {"id", "kind": "event", "event", "did", "times": {"op", "n"}, "span": {…}, "where": [{"detail", "op", "value"}]}

Any node may carry "off": true: it is kept but does not count. A span is {} (ever), {"last": N} calendar days,
or {"from": "YYYY-MM-DD", "to": "YYYY-MM-DD"} with either end missing.
"""

import dataclasses
import datetime as dt
import re
from collections.abc import Iterator, Mapping
from typing import Any, Union

from meadowrun.core.audience.fields import Dictionary

#: type of field → what can be said of it; "blank" and "not_blank" go with every type.
OPERATORS: dict[str, tuple[str, ...]] = {
    "text": ("is", "is_not", "contains", "not_contains", "begins"),
    "number": ("is", "at_least", "at_most", "between"),
    "date": ("in_next", "in_last", "on", "before", "after", "between", "yearly_next"),
    "yes_no": ("yes", "no"),
    "choice": ("is", "is_not"),
    "choices": ("has", "has_not"),
}
BLANK = ("blank", "not_blank")
MOST_LINES = 200
MOST_DEPTH = 60
_ID = re.compile(r"[A-Za-z0-9]{1,12}\Z")


class DefinitionError(ValueError):
    """A definition that cannot be taken; `line` is the id of the line at fault, where it has one."""

    def __init__(self, message: str, line: str | None = None):
        super().__init__(message)
        self.line = line


@dataclasses.dataclass(frozen=True, slots=True)
class FieldLine:
    id: str
    field: str
    op: str
    value: Any = None
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Detail:
    detail: str
    op: str
    value: Any = None


@dataclasses.dataclass(frozen=True, slots=True)
class Span:
    """When: the last N calendar days up to now, or from a day to a day (both inclusive), or ever."""

    last: int | None = None
    first: dt.date | None = None
    until: dt.date | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class EventLine:
    id: str
    event: str
    did: bool = True
    #: at_least, exactly or at_most so many times
    times_op: str = "at_least"
    times: int = 1
    span: Span = Span()
    where: tuple[Detail, ...] = ()
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Group:
    id: str
    match: str
    lines: tuple["Node", ...]
    off: bool = False


Node = Union[FieldLine, EventLine, Group]  # noqa: UP007 - a forward reference inside


@dataclasses.dataclass(frozen=True, slots=True)
class Definition:
    lines: tuple[Node, ...] = ()

    def walk(self) -> Iterator[Node]:
        """Every node, parents before children."""
        stack: list[Node] = list(reversed(self.lines))
        while stack:
            node = stack.pop()
            yield node
            if isinstance(node, Group):
                stack.extend(reversed(node.lines))


def parse(data: Any, words: Dictionary) -> Definition:
    """Reads stored or posted JSON into a Definition.

    Raises DefinitionError with the line's id and a sentence on what to mend. Fields and events must exist in `words`.
    """
    if not isinstance(data, Mapping) or not isinstance(data.get("lines"), list):
        raise DefinitionError("The definition is not an object with a list of lines.")
    if data.get("format", 1) != 1:
        raise DefinitionError("This definition was written by a newer version of Meadowrun.")
    seen: set[str] = set()
    lines = tuple(_node(item, words, 1, seen) for item in data["lines"])
    return Definition(lines)


def _node(data: Any, words: Dictionary, depth: int, seen: set[str]) -> Node:
    if not isinstance(data, Mapping):
        raise DefinitionError("A line is not an object.")
    ident = data.get("id")
    if not isinstance(ident, str) or not _ID.match(ident):
        raise DefinitionError("A line has no usable id (letters and digits, at most 12).")
    if ident in seen:
        raise DefinitionError(f"Two lines have the same id, {ident}.", ident)
    seen.add(ident)
    if len(seen) > MOST_LINES:
        raise DefinitionError(f"A segment can have at most {MOST_LINES} lines.", ident)
    if depth > MOST_DEPTH:
        raise DefinitionError(f"Groups can be nested at most {MOST_DEPTH} deep.", ident)
    off = bool(data.get("off", False))
    kind = data.get("kind")
    if kind == "group":
        match = data.get("match")
        if match not in ("all", "any", "none"):
            raise DefinitionError("A group holds all, any or none of its lines.", ident)
        if not isinstance(data.get("lines"), list):
            raise DefinitionError("A group has no list of lines.", ident)
        return Group(ident, match, tuple(_node(n, words, depth + 1, seen) for n in data["lines"]), off)
    if kind == "field":
        spec = words.fields.get(str(data.get("field")))
        if spec is None:
            raise DefinitionError(f"There is no field called “{data.get('field')}” any more. Choose another, "
                                  "or remove the line.", ident)
        op = data.get("op")
        if op not in (*OPERATORS[spec.type], *BLANK):
            raise DefinitionError(f"“{op}” cannot be said of {spec.label}.", ident)
        return FieldLine(ident, spec.ref, op, _value(spec.type, op, data.get("value"), spec.label, ident), off)
    if kind == "event":
        event = words.events.get(str(data.get("event")))
        if event is None:
            raise DefinitionError(f"There is no kind of event called “{data.get('event')}”.", ident)
        times = data.get("times") or {}
        times_op, n = times.get("op", "at_least"), times.get("n", 1)
        if times_op not in ("at_least", "exactly", "at_most") or not isinstance(n, int) or not 0 <= n <= 100_000:
            raise DefinitionError("How often must be a whole number from 0 to 100,000.", ident)
        if times_op == "at_least" and n < 1:
            raise DefinitionError("“At least” needs a number from 1 up; use “exactly 0 times” for never.", ident)
        details = []
        for item in data.get("where") or []:
            detail = event.detail(str(item.get("detail")))
            if detail is None:
                raise DefinitionError(f"“{event.did}” has no detail called “{item.get('detail')}”.", ident)
            if item.get("op") not in OPERATORS.get(detail.type, ()):
                raise DefinitionError(f"“{item.get('op')}” cannot be said of {detail.label}.", ident)
            details.append(Detail(detail.key, item["op"],
                                  _value(detail.type, item["op"], item.get("value"), detail.label, ident)))
        return EventLine(ident, event.key, bool(data.get("did", True)), times_op, n,
                         _span(data.get("span") or {}, ident), tuple(details), off)
    raise DefinitionError(f"“{kind}” is no kind of line.", ident)


def _span(data: Mapping[str, Any], ident: str) -> Span:
    if "last" in data:
        return Span(last=_days(data["last"], ident))
    first, until = (_date(data[k], ident) if data.get(k) else None for k in ("from", "to"))
    if first and until and first > until:
        raise DefinitionError("The span ends before it begins.", ident)
    return Span(None, first, until)


def _days(value: Any, ident: str) -> int:
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= 36_500:
        raise DefinitionError("The number of days must be a whole number from 0 to 36,500.", ident)
    return value


def _date(value: Any, ident: str) -> dt.date:
    try:
        return dt.date.fromisoformat(str(value))
    except ValueError:
        raise DefinitionError(f"“{value}” is not a date.", ident) from None


def _number(value: Any, ident: str) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise DefinitionError(f"“{value}” is not a number.", ident)
    return value


def _value(kind: str, op: str, value: Any, label: str, ident: str) -> Any:
    """Checks the value of a condition and returns it in the form the evaluators use."""
    if op in BLANK or kind == "yes_no":
        return None
    if kind in ("choice", "choices") or (kind == "text" and op in ("is", "is_not")):
        values = value if isinstance(value, list) else [value]
        texts = tuple(v for v in values if isinstance(v, str) and v != "")
        if len(texts) != len(values) or not texts:
            raise DefinitionError(f"Choose at least one value for {label}.", ident)
        return texts
    if kind == "text":
        if not isinstance(value, str) or not value:
            raise DefinitionError(f"Type some text for {label}.", ident)
        return value
    if kind == "number":
        if op == "between":
            if not isinstance(value, list) or len(value) != 2:
                raise DefinitionError(f"Give two numbers for {label}.", ident)
            low, high = _number(value[0], ident), _number(value[1], ident)
            if low > high:
                raise DefinitionError(f"The first number for {label} is larger than the second.", ident)
            return (low, high)
        return _number(value, ident)
    if op in ("in_next", "in_last", "yearly_next"):
        return _days(value, ident)
    if op == "between":
        if not isinstance(value, list) or len(value) != 2:
            raise DefinitionError(f"Give two dates for {label}.", ident)
        first, last = _date(value[0], ident), _date(value[1], ident)
        if first > last:
            raise DefinitionError(f"The span for {label} ends before it begins.", ident)
        return (first, last)
    return _date(value, ident)


def dump(definition: Definition) -> dict[str, Any]:
    """The JSON of a Definition; `parse(dump(d)) == d`."""
    return {"format": 1, "lines": [dump_node(node) for node in definition.lines]}


def dump_node(node: Node) -> dict[str, Any]:
    data: dict[str, Any] = {"id": node.id}
    if isinstance(node, Group):
        data |= {"kind": "group", "match": node.match, "lines": [dump_node(n) for n in node.lines]}
    elif isinstance(node, FieldLine):
        data |= {"kind": "field", "field": node.field, "op": node.op}
        if node.value is not None:
            data["value"] = _plain(node.value)
    else:
        span: dict[str, Any] = {}
        if node.span.last is not None:
            span["last"] = node.span.last
        if node.span.first:
            span["from"] = node.span.first.isoformat()
        if node.span.until:
            span["to"] = node.span.until.isoformat()
        data |= {"kind": "event", "event": node.event, "did": node.did,
                 "times": {"op": node.times_op, "n": node.times}, "span": span,
                 "where": [{"detail": d.detail, "op": d.op, "value": _plain(d.value)} for d in node.where]}
    if node.off:
        data["off"] = True
    return data


def _plain(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_plain(v) for v in value]
    return value.isoformat() if isinstance(value, dt.date) else value
