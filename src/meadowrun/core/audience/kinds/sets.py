"""Being in something: a list, another segment, a group of a grouping; or having a tag."""

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import (
    INSIDE,
    NUMBER,
    Json,
    Kind,
    Reading,
    parse,
    turning_of,
)
from meadowrun.core.audience.kinds.mail import TAG
from meadowrun.core.audience.nodes import SetLine
from meadowrun.core.audience.operands import DefinitionError
from meadowrun.core.audience.persons import Person
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.turning import LISTS, TAGS, Turning, together
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge


def _number_of(key: str) -> int:
    return int(key) if is_whole(key) else -1


class SetKind(Kind[SetLine]):
    """What lists, segments and tags have in common: one number, and being in it or not."""

    def members(self) -> Json:
        return {self.key: NUMBER, **INSIDE}

    def read(self, data: Mapping[str, Any], line: Reading) -> SetLine:
        number = line.named(self.key, data.get(self.key))
        return SetLine(line.ident, self.key, number, bool(data.get("inside", True)), off=line.off)

    def write(self, node: SetLine) -> Json:
        return {self.key: node.of, "inside": node.inside}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {self.key: _number_of(key), "inside": True}

    def holds(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        return self.contains(node, person, judge) == node.inside

    def contains(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        """Whether a person is in what a line names."""
        raise NotImplementedError

    def looked_at(self, node: SetLine, person: Person, judge: "Judge") -> str:
        return ""


class ListKind(SetKind):
    key = "list"
    required = ("list",)
    names = {"list": "list"}

    def contains(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        return node.of in person.lists

    def turning(self, node: SetLine, words: Dictionary) -> Turning:
        return Turning(frozenset({LISTS}))

    def sentence(self, node: SetLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", "is on the list" if node.inside else "is not on the list", "inside"),
            Part("strong", f"“{words.name('list', node.of)}”", "of"),
        ]


class SegmentKind(SetKind):
    key = "segment"
    required = ("segment",)
    names = {"segment": "segment"}

    def read(self, data: Mapping[str, Any], line: Reading) -> SetLine:
        node = super().read(data, line)
        name, inside = line.words.name("segment", node.of), line.reader.inside
        if node.of in inside:
            raise line.wrong(
                Wording(
                    "“%(name)s” is made of this segment itself: that would be a circle.", name=name
                )
            )
        try:
            parse(line.words.segment(node.of) or {"lines": []}, line.words, (*inside, node.of))
        except DefinitionError as problem:
            raise line.wrong(
                Wording("In the segment “%(name)s”: %(problem)s", name=name, problem=problem)
            ) from None
        return node

    def contains(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        return judge.matches(parse(judge.words.segment(node.of), judge.words), person)

    def turning(self, node: SetLine, words: Dictionary) -> Turning:
        return turning_of(parse(words.segment(node.of), words), words)

    def sentence(self, node: SetLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", "is in the segment" if node.inside else "is not in the segment", "inside"),
            Part("strong", f"“{words.name('segment', node.of)}”", "of"),
        ]


class TagKind(SetKind):
    key = "tag"
    required = ("tag",)
    names = {"tag": "tag"}

    def members(self) -> Json:
        return {"tag": TAG, **INSIDE}

    def contains(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        return bool(judge.words.under(node.of) & person.tags)

    def turning(self, node: SetLine, words: Dictionary) -> Turning:
        return Turning(frozenset({TAGS}))

    def looked_at(self, node: SetLine, person: Person, judge: "Judge") -> str:
        under = judge.words.under(node.of) & person.tags
        tags = sorted(judge.words.name("tag", number) or "" for number in under)
        return f"has {' and '.join(tags)}" if tags else "has none of it"

    def sentence(self, node: SetLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        wider = "or one inside it" if len(words.under(node.of)) > 1 else ""
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", "has" if node.inside else "does not have", "inside"),
            Part("text", "the tag"),
            Part("strong", f"“{words.name('tag', node.of)}”", "of"),
            Part("text", wider),
        ]


class GroupingKind(SetKind):
    key = "grouping"
    required = ("grouping", "group")
    names = {"grouping": "grouping"}

    def members(self) -> Json:
        return {"grouping": NUMBER, "group": {"type": "string"}, **INSIDE}

    def read(self, data: Mapping[str, Any], line: Reading) -> SetLine:
        number = line.named("grouping", data.get("grouping"))
        group = str(data.get("group", ""))
        groups = {one["key"] for one in line.words.grouping(number) or []} | {"else"}
        if not group or group not in groups:
            raise line.wrong("Choose a group of the grouping.")
        inside = bool(data.get("inside", True))
        return SetLine(line.ident, "grouping", number, inside, group, line.off)

    def write(self, node: SetLine) -> Json:
        return {"grouping": node.of, "inside": node.inside, "group": node.group}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        number = _number_of(key)
        groups = words.grouping(number) or []
        first = groups[0]["key"] if groups else "else"
        return {"grouping": number, "group": first, "inside": True}

    def contains(self, node: SetLine, person: Person, judge: "Judge") -> bool:
        for group in judge.words.grouping(node.of) or []:
            if judge.matches(parse({"lines": group["lines"]}, judge.words), person):
                return bool(group["key"] == node.group)
        return node.group == "else"

    def turning(self, node: SetLine, words: Dictionary) -> Turning:
        groups = [parse({"lines": one["lines"]}, words) for one in words.grouping(node.of) or []]
        return together(turning_of(one, words) for one in groups)

    def sentence(self, node: SetLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        names = {group["key"]: group["name"] for group in words.grouping(node.of) or []}
        name = "everyone else" if node.group == "else" else names.get(node.group, "?")
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", "falls" if node.inside else "does not fall", "inside"),
            Part("text", "under"),
            Part("strong", f"“{name}”", "group"),
            Part("text", f"of {words.name('grouping', node.of)}"),
        ]
