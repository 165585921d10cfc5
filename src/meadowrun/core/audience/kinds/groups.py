"""Lines within lines: all, any or none of them, or somebody of the same company."""

import dataclasses
import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import KINDS, Json, Kind, Reading
from meadowrun.core.audience.nodes import Group
from meadowrun.core.audience.persons import Person
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.turning import Turning, together

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

MATCH = ("all", "any", "none", "colleagues")
GROUP_WORDS = {
    "all": "all",
    "any": "any",
    "none": "none",
    "colleagues": "somebody of the same company",
}


def exclusion(node: Any) -> bool:
    """Whether a group reads as one line: “but not anyone who …”."""
    return (
        isinstance(node, Group)
        and node.match == "none"
        and len(node.lines) == 1
        and not isinstance(node.lines[0], Group)
    )


class GroupKind(Kind[Group]):
    key = "group"
    required = ("match", "lines")

    def members(self) -> Json:
        return {
            "match": {"enum": list(MATCH)},
            "lines": {"type": "array", "items": {"$ref": "#/$defs/line"}},
        }

    def read(self, data: Mapping[str, Any], line: Reading) -> Group:
        if data.get("match") not in MATCH:
            raise line.wrong(
                "A group holds all, any or none of its lines, or speaks of colleagues."
            )
        if not isinstance(data.get("lines"), list):
            raise line.wrong("A group has no list of lines.")
        return Group(line.ident, str(data["match"]), line.nodes(data["lines"]), line.off)

    def write(self, node: Group) -> Json:
        from meadowrun.core.audience.definition import dump_node

        return {"match": node.match, "lines": [dump_node(one) for one in node.lines]}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {"match": key or "any", "lines": []}

    def holds(self, node: Group, person: Person, judge: "Judge") -> bool:
        live = [one for one in node.lines if not one.off]
        if node.match == "colleagues":
            return person.company is not None and any(
                all(judge.holds(line, one) for line in live) for one in judge.colleagues(person)
            )
        answers = [judge.holds(one, person) for one in live]
        if not answers:
            return True
        return {"all": all(answers), "any": any(answers), "none": not any(answers)}[node.match]

    def looked_at(self, node: Group, person: Person, judge: "Judge") -> str:
        return judge.looked_at(node.lines[0], person) if exclusion(node) else ""

    def sentence(self, node: Group, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        if exclusion(node):
            only = node.lines[0]
            return [
                Part("text", "but"),
                Part("strong", "not", "match"),
                *KINDS[only.kind].sentence(only, words, today, True),
            ]
        said = {"all": "of these hold", "colleagues": "is one"}.get(node.match, "of these holds")
        return [
            Part("text", "for whom"),
            Part("word", GROUP_WORDS[node.match], "match"),
            Part("text", said),
        ]

    def turning(self, node: Group, words: Dictionary) -> Turning:
        live = (one for one in node.lines if not one.off)
        inside = together(KINDS[one.kind].turning(one, words) for one in live)
        # What a colleague does, and who becomes one, turns it as well.
        return dataclasses.replace(inside, followed=False) if node.match == "colleagues" else inside

    def means_today(self, node: Group, words: Dictionary, today: dt.date) -> str:
        if len(node.lines) != 1:
            return ""
        only = node.lines[0]
        return KINDS[only.kind].means_today(only, words, today)
