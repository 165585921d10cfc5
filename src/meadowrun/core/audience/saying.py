"""Parts of a line's sentence: plain words, strong words, and words that can be changed; and how
comparisons are said."""

import dataclasses
import datetime as dt
from typing import Any

from meadowrun.core import wording
from meadowrun.core.audience.operands import IN_DAYS


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
COMPARE_WORDS = {"letters": "", "loose": "(accents do not matter)", "exact": "(exactly as written)"}


def text(parts: list[Part]) -> str:
    return " ".join(p.text for p in parts if p.text).replace(" ,", ",")


def comparison(kind: str, op: str, value: Any) -> list[Part]:
    """A comparison and its value; no days at all are said as what they mean."""
    if value == 0 and op in _NO_DAYS:
        verb, meaning = _NO_DAYS[op]
        return [Part("word", verb, "op"), Part("word", meaning, "value")]
    return [Part("word", OP_WORDS[op], "op"), *value_words(kind, op, value, "value")]


def value_words(kind: str, op: str, value: Any, slot: str) -> list[Part]:
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
