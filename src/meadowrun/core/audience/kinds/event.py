"""Something that happened to a contact: how often, when, with what details, and what followed."""

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core import wording
from meadowrun.core.audience.compare import as_number, compared, holds
from meadowrun.core.audience.dates import rolling
from meadowrun.core.audience.fields import Dictionary, EventSpec
from meadowrun.core.audience.kinds.field import COMPARISONS, VALUE
from meadowrun.core.audience.kinds.kind import Json, Kind, Reading, plain
from meadowrun.core.audience.nodes import Detail, EventLine, Span, Then, Total
from meadowrun.core.audience.operands import BLANK, IN_DAYS, OPERATORS, TOTALS, member, value_of
from meadowrun.core.audience.persons import Happening, Person
from meadowrun.core.audience.saying import OP_WORDS, Part, value_words
from meadowrun.core.audience.spans import SPAN, read_span, span_words, within, write_span
from meadowrun.core.audience.turning import Turning, events_of
from meadowrun.core.language import Wording

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

WHICH_WORDS = {"any": "", "first": "for the first time", "latest": "for the latest time"}
TIMES_WORDS = {"at_least": "or more", "exactly": "exactly", "at_most": "at most"}
MOST_TIMES = 100_000
#: A detail that was not given is told by asking for the event without it; “blank” is for fields.
_DETAIL: Json = {
    "type": "object",
    "required": ["detail", "op", "value"],
    "additionalProperties": False,
    "properties": {
        "detail": {"type": "string"},
        "op": {"enum": sorted(set(COMPARISONS) - set(BLANK))},
        "value": VALUE,
    },
}
_TIMES: Json = {
    "type": "object",
    "required": ["op", "n"],
    "additionalProperties": False,
    "properties": {
        "op": {"enum": list(TIMES_WORDS)},
        "n": {"type": "integer", "minimum": 0, "maximum": MOST_TIMES},
    },
}
_TOTAL: Json = {
    **_DETAIL,
    "properties": {
        **_DETAIL["properties"],
        "op": {"enum": list(TOTALS)},
        "value": {"type": "number"},
    },
}
_THEN: Json = {
    "type": "object",
    "required": ["event", "days"],
    "additionalProperties": False,
    "properties": {
        "event": {"type": "string"},
        "did": {"type": "boolean"},
        "days": {"type": "integer", "minimum": 1, "maximum": 3650},
    },
}


class EventKind(Kind[EventLine]):
    key = "event"
    required = ("event",)

    def members(self) -> Json:
        return {
            "event": {"type": "string"},
            "did": {"type": "boolean", "default": True},
            "span": SPAN,
            "where": {"type": "array", "items": _DETAIL},
            "times": _TIMES,
            "which": {"enum": list(WHICH_WORDS)},
            "total": _TOTAL,
            "then": _THEN,
        }

    def read(self, data: Mapping[str, Any], line: Reading) -> EventLine:
        event = _event(data.get("event"), line)
        times_op, times = _times(data, line)
        details = tuple(
            Detail(*_detail(item, event, line)) for item in member(data, "where", list, line.ident)
        )
        did, which = bool(data.get("did", True)), data.get("which", "any")
        if which not in tuple(WHICH_WORDS):
            raise line.wrong("An event can be any, the first or the latest one.")
        total = _total(data["total"], event, line) if data.get("total") else None
        then = _then(member(data, "then", dict, line.ident), line) if data.get("then") else None
        if (total or then or which != "any") and not did:
            raise line.wrong(
                "First, latest, totals and what followed can only be said of what somebody did."
            )
        if which != "any" and (total or then):
            raise line.wrong(
                "A first or latest time goes without totals and without what followed."
            )
        span = read_span(member(data, "span", dict, line.ident), line.ident)
        return EventLine(
            line.ident,
            event.key,
            did,
            times_op,
            times,
            span,
            details,
            which,
            total,
            then,
            line.off,
        )

    def write(self, node: EventLine) -> Json:
        data: Json = {
            "event": node.event,
            "did": node.did,
            "times": {"op": node.times_op, "n": node.times},
            "span": write_span(node.span),
            "where": [
                {"detail": d.detail, "op": d.op, "value": plain(d.value)} for d in node.where
            ],
        }
        if node.which != "any":
            data["which"] = node.which
        if node.total:
            total = node.total
            data["total"] = {"detail": total.detail, "op": total.op, "value": total.value}
        if node.then:
            then = node.then
            data["then"] = {"event": then.event, "did": then.did, "days": then.days}
        return data

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {
            "event": words.events[key].key,
            "did": True,
            "times": {"op": "at_least", "n": 1},
            "span": {"last": 90},
            "where": [],
        }

    def holds(self, node: EventLine, person: Person, judge: "Judge") -> bool:
        if node.which != "any":
            ever = _fitting(node, person, judge, spanned=False)
            if not ever:
                return False
            picked = ever[0 if node.which == "first" else -1]
            return within(node.span, judge.clock, person.zone)(picked.at)
        fits = _fits(node, person, judge)
        if not node.did:
            return not fits
        n = len(fits)
        often = {
            "at_least": n >= node.times,
            "exactly": n == node.times,
            "at_most": n <= node.times,
        }[node.times_op]
        if not often or node.total is None:
            return often
        given = (as_number(h.details.get(node.total.detail)) for h in fits)
        numbers = [found for found in given if found is not None]
        return bool(numbers) and compared(node.total.op, sum(numbers), node.total.value)

    def looked_at(self, node: EventLine, person: Person, judge: "Judge") -> str:
        found = _fitting(node, person, judge, spanned=node.which == "any")
        times = wording.count_of(len(found), "time")
        if not found:
            return times
        day = wording.day(found[-1].at.date())
        return Wording("%(times)s, the latest on %(day)s", times=times, day=day)

    def turning(self, node: EventLine, words: Dictionary) -> Turning:
        number = words.events[node.event].id
        sources, after = {events_of(number)}, set()
        if node.then:
            sources.add(events_of(words.events[node.then.event].id))
            if not node.then.did:
                after.add((number, node.then.days))
        daily = node.span.last is not None or any(one.op in IN_DAYS for one in node.where)
        return Turning(frozenset(sources), daily, frozenset(after))

    def countable(self, node: EventLine) -> bool:
        return node.did and node.which == "any" and node.total is None

    def moments(self, node: EventLine, person: Person, judge: "Judge") -> list[dt.datetime]:
        return [happening.at for happening in _fits(node, person, judge)]

    def sentence(self, node: EventLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        event = words.events[node.event]
        parts = [Part("text", "anyone who" if out else "who")]
        if not node.did:
            parts.append(Part("word", "did not", "did"))
        if node.which != "any":
            parts.append(Part("word", WHICH_WORDS[node.which], "times"))
        parts.append(Part("strong", event.did if node.did else event.do, "event"))
        if node.did and node.which == "any":
            parts.append(Part("word", times_words(node), "times"))
        for index, detail in enumerate(node.where):
            parts += _detail_words(detail, index, event)
        if node.total is not None:
            parts += _total_words(node.total, event)
        parts.append(Part("word", span_words(node.span), "span"))
        return parts + _then_words(node.then, words) if node.then is not None else parts

    def means_today(self, node: EventLine, words: Dictionary, today: dt.date) -> str:
        if node.span.last is None:
            return ""
        return wording.span(*rolling("in_last", node.span.last, today))


def _event(key: Any, line: Reading) -> EventSpec:
    event = line.words.event(str(key))
    if event is None:
        raise line.wrong(Wording("There is no kind of event called “%(key)s”.", key=key))
    return event


def _times(data: Mapping[str, Any], line: Reading) -> tuple[str, int]:
    times = member(data, "times", dict, line.ident)
    op, n = times.get("op", "at_least"), times.get("n", 1)
    if (
        op not in tuple(TIMES_WORDS)
        or isinstance(n, bool)
        or not isinstance(n, int)
        or not 0 <= n <= MOST_TIMES
    ):
        raise line.wrong(
            Wording(
                "How often must be a whole number from 0 to %(most_times)s.",
                most_times=wording.number(MOST_TIMES),
            )
        )
    if op == "at_least" and n < 1:
        raise line.wrong("“At least” needs a number from 1 up; use “exactly 0 times” for never.")
    return op, n


def _detail(item: Any, event: EventSpec, line: Reading) -> tuple[str, str, Any]:
    if not isinstance(item, Mapping):
        raise line.wrong("A detail is an object with its name, what is said of it, and a value.")
    detail = event.detail(str(item.get("detail")))
    if detail is None:
        raise line.wrong(
            Wording(
                "“%(did)s” has no detail called “%(detail)s”.",
                did=event.did,
                detail=item.get("detail"),
            )
        )
    op = item.get("op")
    if op not in OPERATORS.get(detail.type, ()):
        raise line.wrong(
            Wording("“%(op)s” cannot be said of %(label)s.", op=op, label=detail.label)
        )
    value = value_of(detail.type, op, item.get("value"), detail.label, line.ident)
    return detail.key, op, value


def _total(data: Any, event: EventSpec, line: Reading) -> Total:
    key, op, value = _detail(data, event, line)
    spec = event.detail(key)
    if spec is None or spec.type != "number" or op not in TOTALS:
        raise line.wrong(
            "Only a number among the details can add up to more than, at least, less than or at "
            "most so much."
        )
    return Total(key, op, value)


def _then(data: Mapping[str, Any], line: Reading) -> Then:
    days = data.get("days")
    if isinstance(days, bool) or not isinstance(days, int) or not 1 <= days <= 3650:
        raise line.wrong("What follows must do so within 1 to 3,650 days.")
    return Then(_event(data.get("event"), line).key, bool(data.get("did", True)), days)


def _fitting(
    line: EventLine, person: Person, judge: "Judge", spanned: bool = True
) -> list[Happening]:
    """A person's events that a line is about, in order of time; within its span, or at any time
    up to now."""
    inside = within(line.span if spanned else Span(), judge.clock, person.zone)
    event, today = judge.words.events[line.event], judge.clock.today()

    def fits(happening: Happening, wanted: Detail) -> bool:
        spec = event.detail(wanted.detail)
        return spec is not None and holds(
            spec.type, wanted.op, wanted.value, happening.details.get(wanted.detail), today
        )

    return [
        happening
        for happening in sorted(person.events, key=lambda h: h.at)
        if happening.event == line.event
        and inside(happening.at)
        and all(fits(happening, wanted) for wanted in line.where)
    ]


def _fits(line: EventLine, person: Person, judge: "Judge") -> list[Happening]:
    found = _fitting(line, person, judge)
    if line.then is None:
        return found
    return [one for one in found if _followed(line.then, one, person, judge)]


def _followed(then: Then, happening: Happening, person: Person, judge: "Judge") -> bool:
    """Whether what a line asks to follow did, or did not. “Did not” can be said only when the
    time for it is over."""
    until = happening.at + dt.timedelta(days=then.days)
    came = any(h.event == then.event and happening.at < h.at <= until for h in person.events)
    return came if then.did else not came and until <= judge.clock.now


def times_words(line: EventLine) -> str:
    """How often, in words."""
    n = wording.number(line.times)
    word = "time" if line.times == 1 else "times"
    if line.times_op == "at_least":
        return "at least once" if line.times == 1 else f"{n} {word} or more"
    return f"{TIMES_WORDS[line.times_op]} {n} {word}"


def _detail_words(detail: Detail, index: int, event: EventSpec) -> list[Part]:
    spec = event.detail(detail.detail)
    if spec is None:
        return []
    slot = f"where{index}"
    return [
        Part("text", "with" if index == 0 else "and"),
        Part("strong", spec.label, slot),
        Part("word", OP_WORDS[detail.op].removeprefix("is ") or "is", slot),
        *value_words(spec.type, detail.op, detail.value, slot),
    ]


def _total_words(total: Total, event: EventSpec) -> list[Part]:
    spec = event.detail(total.detail)
    return [
        Part("text", "with"),
        Part("strong", spec.label if spec else total.detail, "total"),
        Part("word", OP_WORDS[total.op].removeprefix("is "), "total"),
        Part("word", wording.number(total.value), "total"),
        Part("text", "in total"),
    ]


def _then_words(then: Then, words: Dictionary) -> list[Part]:
    event = words.events[then.event]
    return [
        Part("text", ","),
        Part("word", f"then {event.did}" if then.did else f"then did not {event.do}", "then"),
        Part("word", Wording("within %(days)s", days=wording.count_of(then.days, "day")), "then"),
    ]
