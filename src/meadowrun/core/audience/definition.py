"""A segment's definition: between the JSON that is stored or posted and the lines of nodes.py.

    {"format": 1, "lines": [node, …]}                                   all of the top lines must
    hold {"id", "kind": "group", "match": "all"|"any"|"none"|"colleagues", "lines": […]} {"id",
    "kind": "field", "field", "op", "value", "compare"} {"id", "kind": "event", "event", "did",
    "times": {"op", "n"}, "span": {…}, "where": [{"detail", "op", "value"}],
           "which": "any"|"first"|"latest", "total": {"detail", "op", "value"}, "then": {"event",
           "did", "days"}}
    {"id", "kind": "mail", "what", "did", "of": {"message"|"campaign"|"send"|"tag": N | "channel":
    "x"}, "link", "times", "span" or "latest", "among"} {"id", "kind": "consent", "topic": N,
    "state": "agreed"|"refused"|"unasked"[, "channel": "sms"|"push"|"card"]} {"id", "kind": "reach",
    "channel": "email", "can"} {"id", "kind": "list", "list": N, "inside"}    {"id", "kind":
    "segment", "segment": N, "inside"} {"id", "kind": "part", "partition": N, "part": "key",
    "inside"} {"id", "kind": "tag", "tag": N, "inside"} {"id", "kind": "score", "score": N, "op":
    "more_than"|"at_least"|"less_than"|"at_most", "value"} {"id", "kind": "share", "percent",
    "salt"}

A tag may also be named by its path. Any node may carry "off": true: it is kept but does not count.
A span is {} (ever), {"last": N} calendar days, or {"from": "YYYY-MM-DD", "to": "YYYY-MM-DD"} with
either end missing. The JSON Schema is segment.schema.json beside this.
"""

import datetime as dt
import re
from collections.abc import Iterable, Mapping
from typing import Any

from meadowrun.core.audience.fields import NAMED, Dictionary
from meadowrun.core.audience.nodes import (
    ConsentLine,
    Definition,
    Detail,
    EventLine,
    FieldLine,
    Group,
    MailLine,
    Node,
    ReachLine,
    ScoreLine,
    SetLine,
    ShareLine,
    Span,
    Then,
    Total,
)
from meadowrun.core.audience.operands import (
    BLANK,
    COMPARE,
    OPERATORS,
    TOTALS,
    member,
    number,
    span,
    value_of,
)
from meadowrun.core.audience.operands import DefinitionError as DefinitionError
from meadowrun.core.channels import CHANNEL_WORDS

MAIL = (
    "sent",
    "delivered",
    "opened",
    "clicked",
    "bounced",
    "complained",
    "unsubscribed",
    "converted",
)
MATCH = ("all", "any", "none", "colleagues")
MOST_LINES = 200
MOST_DEPTH = 60
#: What a line of each kind may hold besides its id, its kind and whether it is off: the members
#: that the schema names.
MEMBERS = {
    "group": {"lines", "match"},
    "field": {"compare", "field", "op", "value"},
    "event": {"did", "event", "span", "then", "times", "total", "where", "which"},
    "mail": {"among", "did", "latest", "link", "of", "span", "times", "what"},
    "consent": {"channel", "state", "topic"},
    "reach": {"can", "channel"},
    "list": {"inside", "list"},
    "segment": {"inside", "segment"},
    "part": {"inside", "part", "partition"},
    "tag": {"inside", "tag"},
    "score": {"op", "score", "value"},
    "share": {"percent", "salt"},
}
_ID = re.compile(r"[A-Za-z0-9]{1,12}\Z")


def parse(data: Any, words: Dictionary, inside: Iterable[int] = ()) -> Definition:
    """Reads stored or posted JSON into a Definition.

    Raises DefinitionError with the line's id and a sentence on what to mend. What lines name must
    exist in `words`. `inside` are the segments this one is being read for: naming one of them again
    would be a circle.
    """
    if not isinstance(data, Mapping) or not isinstance(data.get("lines"), list):
        raise DefinitionError("The definition is not an object with a list of lines.")
    if data.get("format", 1) != 1:
        raise DefinitionError("This definition was written by a newer version of Meadowrun.")
    reader = _Reader(words, tuple(inside))
    return Definition(tuple(reader.node(item, 1) for item in data["lines"]))


class _Reader:
    def __init__(self, words: Dictionary, inside: tuple[int, ...]):
        self.words, self.inside = words, inside
        self.seen: set[str] = set()

    def node(self, data: Any, depth: int) -> Node:
        if not isinstance(data, Mapping):
            raise DefinitionError("A line is not an object.")
        ident = data.get("id")
        if not isinstance(ident, str) or not _ID.match(ident):
            raise DefinitionError("A line has no usable id (letters and digits, at most 12).")
        if ident in self.seen:
            raise DefinitionError(f"Two lines have the same id, {ident}.", ident)
        self.seen.add(ident)
        if len(self.seen) > MOST_LINES:
            raise DefinitionError(f"A segment can have at most {MOST_LINES} lines.", ident)
        if depth > MOST_DEPTH:
            raise DefinitionError(f"Groups can be nested at most {MOST_DEPTH} deep.", ident)
        off = bool(data.get("off", False))
        kind = data.get("kind")
        unknown = data.keys() - {"id", "kind", "off"} - MEMBERS.get(str(kind), data.keys())
        if unknown:
            # To leave it out unsaid would find other people than were meant.
            raise DefinitionError(
                (
                    f"A line of the kind “{kind}” has no “{min(unknown)}”; it may have "
                    f"{', '.join(sorted(MEMBERS[str(kind)]))}."
                ),
                ident,
            )
        if kind == "group":
            if data.get("match") not in MATCH:
                raise DefinitionError(
                    "A group holds all, any or none of its lines, or speaks of colleagues.", ident
                )
            if not isinstance(data.get("lines"), list):
                raise DefinitionError("A group has no list of lines.", ident)
            return Group(
                ident,
                str(data["match"]),
                tuple(self.node(n, depth + 1) for n in data["lines"]),
                off,
            )
        read = {
            "field": self._field,
            "event": self._event,
            "mail": self._mail,
            "consent": self._consent,
            "reach": self._reach,
            "list": self._set,
            "segment": self._set,
            "part": self._set,
            "tag": self._set,
            "score": self._score,
            "share": self._share,
        }.get(str(kind))
        if read is None:
            raise DefinitionError(f"“{kind}” is no kind of line.", ident)
        return read(data, ident, off)

    def _field(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        spec = self.words.fields.get(str(data.get("field")))
        if spec is None:
            raise DefinitionError(
                f"There is no field called “{data.get('field')}” any more. Choose another, "
                "or remove the line.",
                ident,
            )
        op = data.get("op")
        if op not in (*OPERATORS[spec.type], *BLANK):
            raise DefinitionError(f"“{op}” cannot be said of {spec.label}.", ident)
        compare = data.get("compare", "letters")
        if compare not in COMPARE:
            raise DefinitionError("Text is compared by letters, loosely or exactly.", ident)
        return FieldLine(
            ident,
            spec.ref,
            op,
            value_of(spec.type, op, data.get("value"), spec.label, ident),
            compare,
            off,
        )

    def _event(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        event = self._kind(data.get("event"), ident)
        times = member(data, "times", dict, ident)
        times_op, n = times.get("op", "at_least"), times.get("n", 1)
        if (
            times_op not in ("at_least", "exactly", "at_most")
            or isinstance(n, bool)
            or not isinstance(n, int)
            or not 0 <= n <= 100_000
        ):
            raise DefinitionError("How often must be a whole number from 0 to 100,000.", ident)
        if times_op == "at_least" and n < 1:
            raise DefinitionError(
                "“At least” needs a number from 1 up; use “exactly 0 times” for never.", ident
            )
        details = tuple(
            Detail(*self._detail(item, event.key, ident))
            for item in member(data, "where", list, ident)
        )
        did, which = bool(data.get("did", True)), data.get("which", "any")
        if which not in ("any", "first", "latest"):
            raise DefinitionError("An event can be any, the first or the latest one.", ident)
        total = then = None
        if data.get("total"):
            key, op, value = self._detail(data["total"], event.key, ident)
            spec = event.detail(key)
            if spec is None or spec.type != "number" or op not in TOTALS:
                raise DefinitionError(
                    (
                        "Only a number among the details can add up to more than, at least, less "
                        "than or at most so much."
                    ),
                    ident,
                )
            total = Total(key, op, value)
        if data.get("then"):
            after = member(data, "then", dict, ident)
            days = after.get("days")
            if isinstance(days, bool) or not isinstance(days, int) or not 1 <= days <= 3650:
                raise DefinitionError("What follows must do so within 1 to 3,650 days.", ident)
            then = Then(
                self._kind(after.get("event"), ident).key, bool(after.get("did", True)), days
            )
        if (total or then or which != "any") and not did:
            raise DefinitionError(
                "First, latest, totals and what followed can only be said of what somebody did.",
                ident,
            )
        if which != "any" and (total or then):
            raise DefinitionError(
                "A first or latest time goes without totals and without what followed.", ident
            )
        return EventLine(
            ident,
            event.key,
            did,
            times_op,
            n,
            span(member(data, "span", dict, ident), ident),
            details,
            which,
            total,
            then,
            off,
        )

    def _kind(self, key: Any, ident: str) -> Any:
        event = self.words.event(str(key))
        if event is None:
            raise DefinitionError(f"There is no kind of event called “{key}”.", ident)
        return event

    def _detail(self, item: Any, event_key: str, ident: str) -> tuple[str, str, Any]:
        event = self.words.events[event_key]
        if not isinstance(item, Mapping):
            raise DefinitionError(
                "A detail is an object with its name, what is said of it, and a value.", ident
            )
        detail = event.detail(str(item.get("detail")))
        if detail is None:
            raise DefinitionError(
                f"“{event.did}” has no detail called “{item.get('detail')}”.", ident
            )
        if item.get("op") not in OPERATORS.get(detail.type, ()):
            raise DefinitionError(f"“{item.get('op')}” cannot be said of {detail.label}.", ident)
        return (
            detail.key,
            item["op"],
            value_of(detail.type, item["op"], item.get("value"), detail.label, ident),
        )

    def _mail(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        what, among, times = data.get("what"), data.get("among", "sent"), data.get("times", 1)
        if what not in MAIL:
            raise DefinitionError(f"Of mail it can be said that it was {', '.join(MAIL)}.", ident)
        if among not in ("sent", "everyone"):
            raise DefinitionError(
                "“Did not” is said among those it was sent to, or among everyone.", ident
            )
        if what == "sent":
            # Among those it was sent to nobody was not sent it.
            among = "everyone"
        if isinstance(times, bool) or not isinstance(times, int) or not 1 <= times <= 1000:
            raise DefinitionError(
                "How many different mails must be a whole number from 1 to 1,000.", ident
            )
        of: tuple[str, int | str | None] = ("any", None)
        given = member(data, "of", dict, ident)
        for kind in ("message", "campaign", "send", "tag"):
            if kind in given:
                of = (kind, self._named(kind, given[kind], ident))
        if "channel" in given:
            of = ("channel", self._channel(given, ident))
        link = data.get("link")
        if link is not None and (
            what != "clicked" or of[0] != "message" or not isinstance(link, int)
        ):
            raise DefinitionError("One link can only be named for clicks in one message.", ident)
        within = span(member(data, "span", dict, ident), ident)
        latest = data.get("latest")
        if latest is not None:
            if (
                isinstance(latest, bool)
                or not isinstance(latest, int)
                or not 1 <= latest <= 1000
                or what == "sent"
                or within != Span()
            ):
                raise DefinitionError(
                    (
                        "“Of the last so many they were sent” is a whole number from 1 to 1,000, "
                        "without a span of days."
                    ),
                    ident,
                )
            if times > latest:
                raise DefinitionError(f"Of the last {latest} there are never {times}.", ident)
            among = "sent"
        return MailLine(
            ident, what, bool(data.get("did", True)), of, link, times, within, among, latest, off
        )

    def _named(self, kind: str, number: Any, ident: str) -> int:
        assert kind in NAMED
        if kind == "tag" and isinstance(number, str):
            number = next(
                (n for n, path in self.words.named.get("tag", {}).items() if path == number), None
            )
        if (
            isinstance(number, bool)
            or not isinstance(number, int)
            or self.words.name(kind, number) is None
        ):
            raise DefinitionError(
                (
                    f"The {kind} this line names does not exist any more. Choose another, or "
                    "remove "
                    "the line."
                ),
                ident,
            )
        return number

    def _consent(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        topic, state, channel = data.get("topic", 0), data.get("state"), self._channel(data, ident)
        if state not in ("agreed", "refused", "unasked"):
            raise DefinitionError("Somebody agreed, refused, or was never asked.", ident)
        return ConsentLine(
            ident, 0 if topic == 0 else self._named("topic", topic, ident), state, off, channel
        )

    def _reach(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        return ReachLine(ident, self._channel(data, ident), bool(data.get("can", True)), off)

    def _channel(self, data: Mapping[str, Any], ident: str) -> str:
        channel = data.get("channel", "email")
        if not isinstance(channel, str) or channel not in CHANNEL_WORDS:
            raise DefinitionError(f"The channels are {', '.join(CHANNEL_WORDS)}.", ident)
        return channel

    def _set(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        kind = str(data["kind"])
        key = "partition" if kind == "part" else kind
        number = self._named(key, data.get(key), ident)
        part = ""
        if kind == "segment":
            if number in self.inside:
                raise DefinitionError(
                    (
                        f"“{self.words.name('segment', number)}” is made of this segment itself: "
                        "that would be a circle."
                    ),
                    ident,
                )
            try:
                parse(
                    self.words.segment(number) or {"lines": []}, self.words, (*self.inside, number)
                )
            except DefinitionError as problem:
                raise DefinitionError(
                    f"In the segment “{self.words.name('segment', number)}”: {problem}", ident
                ) from None
        elif kind == "part":
            part = str(data.get("part", ""))
            if not part or part not in {p["key"] for p in self.words.partition(number) or []} | {
                "else"
            }:
                raise DefinitionError("Choose a part of the partition.", ident)
        return SetLine(ident, kind, number, bool(data.get("inside", True)), part, off)

    def _score(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        if data.get("op") not in TOTALS:
            raise DefinitionError(
                "A score is more than, at least, less than or at most so many points.", ident
            )
        return ScoreLine(
            ident,
            self._named("score", data.get("score"), ident),
            str(data["op"]),
            number(data.get("value"), ident),
            off,
        )

    def _share(self, data: Mapping[str, Any], ident: str, off: bool) -> Node:
        percent = number(data.get("percent"), ident)
        salt = data.get("salt")
        if not 0.01 <= percent <= 100:
            raise DefinitionError("A share is from 0.01 to 100 percent.", ident)
        if not isinstance(salt, str) or not _ID.match(salt):
            raise DefinitionError(
                "A share needs a salt of letters and digits, so that it stays the same.", ident
            )
        return ShareLine(ident, percent, salt, off)


def dump(definition: Definition) -> dict[str, Any]:
    """The JSON of a Definition; `parse(dump(d)) == d`."""
    return {"format": 1, "lines": [dump_node(node) for node in definition.lines]}


def dump_node(node: Node) -> dict[str, Any]:
    data: dict[str, Any] = {"id": node.id, **_content(node)}
    if node.off:
        data["off"] = True
    return data


def _content(node: Node) -> dict[str, Any]:
    data: dict[str, Any]
    match node:
        case Group():
            return {
                "kind": "group",
                "match": node.match,
                "lines": [dump_node(n) for n in node.lines],
            }
        case FieldLine():
            data = {"kind": "field", "field": node.field, "op": node.op}
            return (
                data
                | ({"value": _plain(node.value)} if node.value is not None else {})
                | ({"compare": node.compare} if node.compare != "letters" else {})
            )
        case EventLine():
            data = {
                "kind": "event",
                "event": node.event,
                "did": node.did,
                "times": {"op": node.times_op, "n": node.times},
                "span": _dump_span(node.span),
                "where": [
                    {"detail": d.detail, "op": d.op, "value": _plain(d.value)} for d in node.where
                ],
            }
            return (
                data
                | ({"which": node.which} if node.which != "any" else {})
                | (
                    {
                        "total": {
                            "detail": node.total.detail,
                            "op": node.total.op,
                            "value": node.total.value,
                        }
                    }
                    if node.total
                    else {}
                )
                | (
                    {
                        "then": {
                            "event": node.then.event,
                            "did": node.then.did,
                            "days": node.then.days,
                        }
                    }
                    if node.then
                    else {}
                )
            )
        case MailLine():
            data = {
                "kind": "mail",
                "what": node.what,
                "did": node.did,
                "of": {} if node.of[0] == "any" else {node.of[0]: node.of[1]},
                "times": node.times,
                "span": _dump_span(node.span),
                "among": node.among,
            }
            return (
                data
                | ({"link": node.link} if node.link is not None else {})
                | ({"latest": node.latest} if node.latest else {})
            )
        case ConsentLine():
            data = {"kind": "consent", "topic": node.topic, "state": node.state}
            return data | ({"channel": node.channel} if node.channel != "email" else {})
        case ReachLine():
            return {"kind": "reach", "channel": node.channel, "can": node.can}
        case SetLine():
            data = {
                "kind": node.kind,
                ("partition" if node.kind == "part" else node.kind): node.of,
                "inside": node.inside,
            }
            return data | ({"part": node.part} if node.part else {})
        case ScoreLine():
            return {"kind": "score", "score": node.of, "op": node.op, "value": node.value}
        case ShareLine():
            return {"kind": "share", "percent": node.percent, "salt": node.salt}


def _dump_span(span: Span) -> dict[str, Any]:
    data: dict[str, Any] = {}
    if span.last is not None:
        data["last"] = span.last
    if span.first:
        data["from"] = span.first.isoformat()
    if span.until:
        data["to"] = span.until.isoformat()
    return data


def _plain(value: Any) -> Any:
    if isinstance(value, tuple):
        return [_plain(v) for v in value]
    return value.isoformat() if isinstance(value, dt.date) else value
