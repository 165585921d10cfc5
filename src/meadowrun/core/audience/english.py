"""A line as an English sentence, in parts: plain words, strong words, and words that can be changed."""

import dataclasses
import datetime as dt
from typing import Any

from meadowrun.core import wording
from meadowrun.core.audience.dates import rolling
from meadowrun.core.audience.definition import Definition, Detail, EventLine, FieldLine, Group, Node, Span
from meadowrun.core.audience.fields import Dictionary


@dataclasses.dataclass(frozen=True, slots=True)
class Part:
    """`kind` is text, strong or word; `slot` says which setting of the line a word stands for."""

    kind: str
    text: str
    slot: str = ""


#: operator → the words between the field and its value, by type where they differ
OP_WORDS: dict[str, str] = {
    "is": "is", "is_not": "is not", "contains": "contains", "not_contains": "does not contain",
    "begins": "begins with", "at_least": "is at least", "at_most": "is at most", "between": "is between",
    "in_next": "is within the next", "in_last": "was within the last", "on": "is", "before": "is before",
    "after": "is after", "yearly_next": "comes round within the next", "yes": "is yes", "no": "is no",
    "has": "includes", "has_not": "does not include", "blank": "is blank", "not_blank": "is not blank",
}
GROUP_WORDS = {"all": "all", "any": "any", "none": "none"}
TIMES_WORDS = {"at_least": "or more", "exactly": "exactly", "at_most": "at most"}


def op_words(op: str) -> str:
    return OP_WORDS[op]


def sentence(node: Node, words: Dictionary, today: dt.date, out: bool = False) -> list[Part]:
    """The parts of a line's sentence, without its joining word ("and", "or"); `out` for a line that leaves out."""
    if isinstance(node, Group):
        return _group(node, words, today)
    if isinstance(node, FieldLine):
        spec = words.fields[node.field]
        whose = "whose company’s" if spec.owner == "company" else "whose"
        label = spec.label.removeprefix("company’s ")
        parts = [Part("text", f"anyone {whose}" if out else whose), Part("strong", label, "field"),
                 Part("word", OP_WORDS[node.op], "op")]
        return parts + _value(spec.type, node.op, node.value, "value")
    event = words.events[node.event]
    verb = event.did if node.did else event.do
    parts = [Part("text", "anyone who" if out else "who")]
    if not node.did:
        parts.append(Part("word", "did not", "did"))
    parts.append(Part("strong", verb, "event"))
    if node.did:
        parts.append(Part("word", times(node), "times"))
    for index, detail in enumerate(node.where):
        parts += _detail(detail, index, node, words)
    parts.append(Part("word", span_words(node.span), "span"))
    return parts


def times(line: EventLine) -> str:
    n = wording.number(line.times)
    word = "time" if line.times == 1 else "times"
    if line.times_op == "at_least":
        return "at least once" if line.times == 1 else f"{n} {word} or more"
    return f"{TIMES_WORDS[line.times_op]} {n} {word}"


def span_words(span: Span) -> str:
    if span.last is not None:
        return "today" if span.last == 0 else f"in the last {wording.count_of(span.last, 'day')}"
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
    return [Part("text", "with" if index == 0 else "and"), Part("strong", spec.label, slot),
            Part("word", OP_WORDS[detail.op].removeprefix("is ") or "is", slot),
            *_value(spec.type, detail.op, detail.value, slot)]


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
    if op in ("in_next", "in_last", "yearly_next"):
        return [Part("word", wording.count_of(value, "day"), slot)]
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
        return [Part("text", "but"), Part("strong", "not", "match"), *sentence(node.lines[0], words, today, out=True)]
    return [Part("text", "for whom"), Part("word", GROUP_WORDS[node.match], "match"),
            Part("text", "of these holds" if node.match != "all" else "of these hold")]


def meaning_today(node: Node, words: Dictionary, today: dt.date) -> str:
    """The real dates a moving condition means today, or nothing."""
    if isinstance(node, FieldLine) and node.op in ("in_next", "in_last"):
        return wording.span(*rolling(node.op, node.value, today))
    if isinstance(node, FieldLine) and node.op == "yearly_next":
        return wording.span(*rolling("in_next", min(node.value, 366), today)) + ", in any year"
    if isinstance(node, EventLine) and node.span.last is not None:
        return wording.span(*rolling("in_last", node.span.last, today))
    if isinstance(node, Group) and len(node.lines) == 1:
        return meaning_today(node.lines[0], words, today)
    return ""


def text(parts: list[Part]) -> str:
    return " ".join(p.text for p in parts).replace(" ,", ",")


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
                inner = walk(node.lines, "and" if node.match == "all" else "or")
                words_of = f"{words_of}: ({inner})"
            said.append(words_of if index == 0 or words_of.startswith("but not") else f"{joiner} {words_of}")
        return " ".join(said)

    return f"Everyone {walk(definition.lines, 'and')}."
