"""A field of the contact, or of their company, compared with a value."""

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core import wording
from meadowrun.core.audience.compare import holds
from meadowrun.core.audience.dates import rolling
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import Json, Kind, Reading, plain
from meadowrun.core.audience.nodes import FieldLine
from meadowrun.core.audience.operands import (
    BLANK,
    COMPARE,
    IN_DAYS,
    MOST_VALUES,
    OPERATORS,
    value_of,
)
from meadowrun.core.audience.persons import Person
from meadowrun.core.audience.saying import COMPARE_WORDS, Part, comparison
from meadowrun.core.audience.turning import CONTACTS, Turning
from meadowrun.core.language import Wording

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

#: Every operator of a field, and what it may be compared with.
COMPARISONS = sorted({op for ops in OPERATORS.values() for op in ops} | set(BLANK))
VALUE: Json = {
    "type": ["string", "number", "array", "null"],
    "maxItems": MOST_VALUES,
    "items": {"type": ["string", "number"]},
}


class FieldKind(Kind[FieldLine]):
    key = "field"
    required = ("field", "op")

    def members(self) -> Json:
        return {
            "field": {"type": "string"},
            "op": {"enum": COMPARISONS},
            "value": VALUE,
            "compare": {"enum": list(COMPARE)},
        }

    def read(self, data: Mapping[str, Any], line: Reading) -> FieldLine:
        spec = line.words.fields.get(str(data.get("field")))
        if spec is None:
            raise line.wrong(
                Wording(
                    "There is no field called “%(key)s” any more. Choose another, or remove the "
                    "line.",
                    key=data.get("field"),
                )
            )
        op = data.get("op")
        if op not in (*OPERATORS[spec.type], *BLANK):
            raise line.wrong(
                Wording("“%(op)s” cannot be said of %(label)s.", op=op, label=spec.label)
            )
        compare = data.get("compare", "letters")
        if compare not in COMPARE:
            raise line.wrong("Text is compared by letters, loosely or exactly.")
        value = value_of(spec.type, op, data.get("value"), spec.label, line.ident)
        return FieldLine(line.ident, spec.ref, op, value, compare, line.off)

    def write(self, node: FieldLine) -> Json:
        data: Json = {"field": node.field, "op": node.op}
        if node.value is not None:
            data["value"] = plain(node.value)
        if node.compare != "letters":
            data["compare"] = node.compare
        return data

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        spec = words.fields[key]
        line: Json = {"field": key, "op": OPERATORS[spec.type][0]}
        if spec.type in ("choice", "choices"):
            line["value"] = (options.get(key) or list(spec.options))[:1] or ["…"]
        elif spec.type == "text":
            line["op"] = "not_blank"
        elif spec.type == "number":
            line |= {"op": "at_least", "value": 1}
        elif spec.is_day:
            line["value"] = 30
        return line

    def holds(self, node: FieldLine, person: Person, judge: "Judge") -> bool:
        return holds(
            judge.words.fields[node.field].type,
            node.op,
            node.value,
            person.values.get(node.field),
            judge.clock.today(person.zone),
            node.compare,
        )

    def looked_at(self, node: FieldLine, person: Person, judge: "Judge") -> str:
        value = person.values.get(node.field)
        if value in (None, "", []):
            return "blank"
        return wording.held(judge.words.fields[node.field].type, value)

    def sentence(self, node: FieldLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        spec = words.fields[node.field]
        whose = "whose company’s" if spec.owner == "company" else "whose"
        parts = [
            Part("text", f"anyone {whose}" if out else whose),
            Part("strong", spec.label.removeprefix("company’s "), "field"),
            *comparison(spec.type, node.op, node.value),
        ]
        if node.compare != "letters":
            parts.append(Part("word", COMPARE_WORDS[node.compare], "compare"))
        return parts

    def turning(self, node: FieldLine, words: Dictionary) -> Turning:
        return Turning(frozenset({CONTACTS}), daily=node.op in IN_DAYS)

    def means_today(self, node: FieldLine, words: Dictionary, today: dt.date) -> str:
        match node.op:
            case "in_next" | "in_last":
                return wording.span(*rolling(node.op, node.value, today))
            case "yearly_next" | "yearly_last":
                op = "in_next" if node.op == "yearly_next" else "in_last"
                return wording.span(*rolling(op, min(node.value, 366), today)) + ", in any year"
            case "ago":
                since = rolling("in_last", node.value, today)[0]
                return Wording("before %(day)s", day=wording.day(since))
            case "ahead":
                until = rolling("in_next", node.value, today)[1]
                return Wording("after %(day)s", day=wording.day(until))
        return ""
