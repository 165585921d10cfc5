"""A line as an English sentence, in parts: plain words, strong words, and words that can be
changed."""

import dataclasses
import datetime as dt
from typing import Any

from meadowrun.core import wording
from meadowrun.core.audience.dates import rolling
from meadowrun.core.audience.fields import Dictionary
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
)
from meadowrun.core.audience.operands import IN_DAYS
from meadowrun.core.channels import CHANNEL_WORDS, KINDS


@dataclasses.dataclass(frozen=True, slots=True)
class Part:
    """`kind` is text, strong or word; `slot` says which setting of the line a word stands for."""

    kind: str
    text: str
    slot: str = ""


#: operator → the words between the field and its value, by type where they differ
_NO_DAYS = {
    "ago": ("lies", "in the past"),
    "ahead": ("lies", "ahead"),
    "in_next": ("is", "today"),
    "in_last": ("is", "today"),
    "yearly_next": ("comes round", "today"),
    "yearly_last": ("comes round", "today"),
}
OP_WORDS: dict[str, str] = {
    "is": "is",
    "is_not": "is not",
    "contains": "contains",
    "not_contains": "does not contain",
    "begins": "begins with",
    "ends": "ends with",
    "more_than": "is more than",
    "at_least": "is at least",
    "less_than": "is less than",
    "at_most": "is at most",
    "between": "is between",
    "in_next": "is within the next",
    "in_last": "was within the last",
    "on": "is",
    "before": "is before",
    "after": "is after",
    "yearly_next": "comes round within the next",
    "yearly_last": "came round within the last",
    "ago": "was more than",
    "ahead": "is more than",
    "day_month": "falls, in any year, between",
    "hours": "falls, on any day, from",
    "yes": "is yes",
    "no": "is no",
    "has": "includes",
    "has_not": "does not include",
    "blank": "is blank",
    "not_blank": "is not blank",
}
GROUP_WORDS = {
    "all": "all",
    "any": "any",
    "none": "none",
    "colleagues": "somebody of the same company",
}
COMPARE_WORDS = {"letters": "", "loose": "(accents do not matter)", "exact": "(exactly as written)"}
#: what came of a mail → (did, did not)
MAIL_WORDS = {
    "sent": ("was sent", "was not sent"),
    "delivered": ("received", "did not receive"),
    "opened": ("opened", "did not open"),
    "clicked": ("clicked in", "did not click in"),
    "bounced": ("bounced", "did not bounce"),
    "complained": ("complained about", "did not complain about"),
    "unsubscribed": ("unsubscribed from", "did not unsubscribe from"),
    "converted": ("did what counts as success after", "did not do what counts as success after"),
}
STATE_WORDS = {"agreed": "agreed to", "refused": "said no to", "unasked": "was never asked about"}
WHICH_WORDS = {"any": "", "first": "for the first time", "latest": "for the latest time"}
TIMES_WORDS = {"at_least": "or more", "exactly": "exactly", "at_most": "at most"}


def sentence(node: Node, words: Dictionary, today: dt.date, out: bool = False) -> list[Part]:
    """The parts of a line's sentence, without its joining word ("and", "or"); `out` for a line that
    leaves out."""
    who = Part("text", "anyone who" if out else "who")
    match node:
        case Group():
            return _group(node, words, today)
        case FieldLine():
            spec = words.fields[node.field]
            whose = "whose company’s" if spec.owner == "company" else "whose"
            label = spec.label.removeprefix("company’s ")
            parts = [
                Part("text", f"anyone {whose}" if out else whose),
                Part("strong", label, "field"),
                *_compared(spec.type, node.op, node.value),
            ]
            return (
                [*parts, Part("word", COMPARE_WORDS[node.compare], "compare")]
                if node.compare != "letters"
                else parts
            )
        case EventLine():
            return [who, *_event(node, words)]
        case MailLine():
            return [who, *_mail(node, words)]
        case ConsentLine():
            topic = (
                words.name("topic", node.topic)
                if node.topic
                else "all email"
                if node.channel == "email"
                else CHANNEL_WORDS[node.channel]
            )
            if node.topic and node.channel != "email":
                topic = f"{topic} in {CHANNEL_WORDS[node.channel]}"
            return [
                who,
                Part("word", STATE_WORDS[node.state], "state"),
                Part("strong", topic or "?", "topic"),
            ]
        case ReachLine():
            return [
                who,
                Part("word", "can" if node.can else "cannot", "can"),
                Part("text", "get"),
                Part("strong", CHANNEL_WORDS[node.channel], "channel"),
            ]
        case ScoreLine():
            return [
                Part("text", "anyone whose score" if out else "whose score"),
                Part("strong", f"“{words.name('score', node.of)}”", "of"),
                Part("word", OP_WORDS[node.op], "op"),
                Part("word", wording.number(node.value), "value"),
            ]
        case ShareLine():
            return [
                Part("text", "anyone in" if out else "in"),
                Part("word", f"a steady {wording.number(node.percent)}%", "percent"),
                Part("text", "picked by chance"),
            ]
        case SetLine():
            return [who, *_inside(node, words)]


def _event(node: EventLine, words: Dictionary) -> list[Part]:
    event = words.events[node.event]
    parts: list[Part] = [] if node.did else [Part("word", "did not", "did")]
    if node.which != "any":
        parts.append(Part("word", WHICH_WORDS[node.which], "times"))
    parts.append(Part("strong", event.did if node.did else event.do, "event"))
    if node.did and node.which == "any":
        parts.append(Part("word", times(node), "times"))
    for index, detail in enumerate(node.where):
        parts += _detail(detail, index, node, words)
    if node.total is not None:
        spec = event.detail(node.total.detail)
        parts += [
            Part("text", "with"),
            Part("strong", spec.label if spec else node.total.detail, "total"),
            Part("word", OP_WORDS[node.total.op].removeprefix("is "), "total"),
            Part("word", wording.number(node.total.value), "total"),
            Part("text", "in total"),
        ]
    parts.append(Part("word", span_words(node.span), "span"))
    if node.then is not None:
        then = words.events[node.then.event]
        said = f"then {then.did}" if node.then.did else f"then did not {then.do}"
        parts += [
            Part("text", ","),
            Part("word", said, "then"),
            Part("word", f"within {wording.count_of(node.then.days, 'day')}", "then"),
        ]
    return parts


def _mail(node: MailLine, words: Dictionary) -> list[Part]:
    kind, number = node.of
    name = words.name(kind, int(number)) if isinstance(number, int) else None
    many = node.times > 1
    one, several = (
        (KINDS[str(number)].one, KINDS[str(number)].several)
        if kind == "channel"
        else ("message", "messages")
    )
    some = f"at least {node.times} {several}" if many else f"any {one}"
    of = {
        "any": some,
        "channel": some,
        "tag": f"{some} tagged “{name}”",
        "campaign": f"{some} of the campaign “{name}”",
    }.get(kind, f"the {kind} “{name}”")
    parts = [Part("word", MAIL_WORDS[node.what][0 if node.did else 1], "what")]
    if node.link is not None and isinstance(number, int):
        label = (words.links(number) or {}).get(node.link, f"number {node.link + 1}")
        parts += [Part("text", "the link"), Part("word", f"“{label}”", "of"), Part("text", "of")]
    if node.latest:
        within = (
            "of the last they were sent"
            if node.latest == 1
            else f"among the last {node.latest} they were sent"
        )
    else:
        within = span_words(node.span)
    parts += [Part("strong", of, "of"), Part("word", within, "span")]
    if not node.did and node.what != "sent" and not node.latest:
        parts.append(
            Part(
                "word",
                "among those it was sent to"
                if node.among == "sent"
                else "whether it was sent to them or not",
                "among",
            )
        )
    return parts


def _inside(node: SetLine, words: Dictionary) -> list[Part]:
    if node.kind == "part":
        parts = {p["key"]: p["name"] for p in words.partition(node.of) or []} | {
            "else": "everyone else"
        }
        return [
            Part("word", "falls" if node.inside else "does not fall", "inside"),
            Part("text", "under"),
            Part("strong", f"“{parts.get(node.part, '?')}”", "part"),
            Part("text", f"of {words.name('partition', node.of)}"),
        ]
    if node.kind == "tag":
        path = words.name("tag", node.of)
        wider = "or one under it" if len(words.under(node.of)) > 1 else ""
        return [
            Part("word", "has" if node.inside else "does not have", "inside"),
            Part("text", "the tag"),
            Part("strong", f"“{path}”", "of"),
            Part("text", wider),
        ]
    verb = ("is" if node.inside else "is not") + (
        " on the list" if node.kind == "list" else " in the segment"
    )
    return [
        Part("word", verb, "inside"),
        Part("strong", f"“{words.name(node.kind, node.of)}”", "of"),
    ]


def times(line: EventLine) -> str:
    n = wording.number(line.times)
    word = "time" if line.times == 1 else "times"
    if line.times_op == "at_least":
        return "at least once" if line.times == 1 else f"{n} {word} or more"
    return f"{TIMES_WORDS[line.times_op]} {n} {word}"


def span_words(span: Span) -> str:
    if span.last is not None:
        return "today" if span.last == 0 else f"in the last {wording.count_of(span.last, 'day')}"
    if span.first and span.first == span.until:
        return f"on {wording.day(span.first)}"
    if span.first and span.until:
        return f"from {wording.day(span.first)} to {wording.day(span.until)}"
    if span.first:
        return f"since {wording.day(span.first)}"
    if span.until:
        return f"up to {wording.day(span.until)}"
    return "at any time"


def _detail(detail: Detail, index: int, line: EventLine, words: Dictionary) -> list[Part]:
    spec = words.events[line.event].detail(detail.detail)
    if spec is None:
        return []
    slot = f"where{index}"
    return [
        Part("text", "with" if index == 0 else "and"),
        Part("strong", spec.label, slot),
        Part("word", OP_WORDS[detail.op].removeprefix("is ") or "is", slot),
        *_value(spec.type, detail.op, detail.value, slot),
    ]


def _compared(kind: str, op: str, value: Any) -> list[Part]:
    """A comparison and its value; no days at all are said as what they mean."""
    if value == 0 and op in _NO_DAYS:
        verb, meaning = _NO_DAYS[op]
        return [Part("word", verb, "op"), Part("word", meaning, "value")]
    return [Part("word", OP_WORDS[op], "op"), *_value(kind, op, value, "value")]


def _value(kind: str, op: str, value: Any, slot: str) -> list[Part]:
    if op in ("blank", "not_blank", "yes", "no"):
        return []
    if isinstance(value, tuple) and op in ("is", "is_not", "has", "has_not"):
        shown = list(value[:4])
        parts: list[Part] = []
        for index, item in enumerate(shown):
            if index:
                last = index == len(shown) - 1 and len(value) <= 4
                parts.append(Part("text", "or" if last else ","))
            parts.append(Part("word", item, slot))
        if len(value) > 4:
            parts += [Part("text", "or"), Part("word", f"{len(value) - 4} more", slot)]
        return parts
    if op in IN_DAYS:
        days = [Part("word", wording.count_of(value, "day"), slot)]
        return days + [Part("text", op)] if op in ("ago", "ahead") else days
    if op == "day_month":
        start, end = (wording.day_month(str(v)) for v in value)
        return [Part("word", start, slot), Part("text", "and"), Part("word", end, slot)]
    if op == "hours":
        return [
            Part("word", str(value[0]), slot),
            Part("text", "up to"),
            Part("word", str(value[1]), slot),
        ]
    if op == "between":
        low, high = (wording.day(v) if isinstance(v, dt.date) else wording.number(v) for v in value)
        return [Part("word", low, slot), Part("text", "and"), Part("word", high, slot)]
    if isinstance(value, dt.date):
        return [Part("word", wording.day(value), slot)]
    if kind == "number":
        return [Part("word", wording.number(value), slot)]
    return [Part("word", f"“{value}”", slot)]


def _group(node: Group, words: Dictionary, today: dt.date) -> list[Part]:
    if node.match == "none" and len(node.lines) == 1 and not isinstance(node.lines[0], Group):
        return [
            Part("text", "but"),
            Part("strong", "not", "match"),
            *sentence(node.lines[0], words, today, out=True),
        ]
    if node.match == "colleagues":
        return [
            Part("text", "for whom"),
            Part("word", GROUP_WORDS["colleagues"], "match"),
            Part("text", "is one"),
        ]
    return [
        Part("text", "for whom"),
        Part("word", GROUP_WORDS[node.match], "match"),
        Part("text", "of these holds" if node.match != "all" else "of these hold"),
    ]


def meaning_today(node: Node, words: Dictionary, today: dt.date) -> str:
    """The real dates a moving condition means today, or nothing."""
    match node:
        case FieldLine(op="in_next" | "in_last"):
            return wording.span(*rolling(node.op, node.value, today))
        case FieldLine(op="yearly_next" | "yearly_last"):
            op = "in_next" if node.op == "yearly_next" else "in_last"
            return wording.span(*rolling(op, min(node.value, 366), today)) + ", in any year"
        case FieldLine(op="ago"):
            return f"before {wording.day(rolling('in_last', node.value, today)[0])}"
        case FieldLine(op="ahead"):
            return f"after {wording.day(rolling('in_next', node.value, today)[1])}"
        case EventLine() | MailLine() if node.span.last is not None:
            return wording.span(*rolling("in_last", node.span.last, today))
        case Group() if len(node.lines) == 1:
            return meaning_today(node.lines[0], words, today)
    return ""


def text(parts: list[Part]) -> str:
    return " ".join(p.text for p in parts if p.text).replace(" ,", ",")


def read_aloud(definition: Definition, words: Dictionary, today: dt.date) -> str:
    """The whole definition as text: complete enough to review without looking at anything else."""
    if not definition.lines:
        return "Everyone."

    def walk(nodes: tuple[Node, ...], joiner: str) -> str:
        said = []
        for index, node in enumerate(n for n in nodes if not n.off):
            words_of = text(sentence(node, words, today))
            single = isinstance(node, Group) and node.match == "none" and len(node.lines) == 1
            if isinstance(node, Group) and not (single and not isinstance(node.lines[0], Group)):
                inner = walk(node.lines, "and" if node.match in ("all", "colleagues") else "or")
                words_of = f"{words_of}: ({inner})"
            said.append(
                words_of if index == 0 or words_of.startswith("but not") else f"{joiner} {words_of}"
            )
        return " ".join(said)

    return f"Everyone {walk(definition.lines, 'and')}."
