"""What can be compared: segments, lists, and the groups of groupings, each as the people it holds
now."""

import dataclasses
from typing import Any

from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.errors import NotFound
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.people.moment import Moment
from meadowrun.people.queries import lists
from meadowrun.segments import groupings, queries
from meadowrun.segments.looking import Looking, look
from meadowrun.segments.models import Grouping
from meadowrun.segments.sets import STALE

#: So many are compared at once: more overlaps are not read.
MOST = 3
#: The group of those who are in no other of a grouping.
_ELSE = "else"


@dataclasses.dataclass(frozen=True, slots=True)
class Compared:
    """One of them: by what an address names it (“segment:3”, “list:2”, “grouping:1:north”), what
    it is called, and the line of a segment that is about it."""

    key: str
    name: str
    line: dict[str, Any]

    @property
    def kind(self) -> str:
        """segment, list or grouping."""
        return self.key.partition(":")[0]


def every(session: orm.Session) -> dict[str, list[Compared]]:
    """All that can be compared, by what they are called together."""
    found = {
        str(Wording("Segments")): [
            _of("segment", one.id, one.name) for one in queries.segments(session)
        ],
        str(Wording("Lists")): [_of("list", one.id, one.name) for one, _ in lists(session)],
    }
    for grouping in groupings.every(session):
        found[grouping.name] = groups_of(grouping)
    return {called: some for called, some in found.items() if some}


def groups_of(grouping: Grouping) -> list[Compared]:
    """The groups of a grouping in order, and everyone else; none of one without groups."""
    if not grouping.groups:
        return []
    return [
        _of("grouping", grouping.id, name, key)
        for key, name in (
            *((group["key"], group["name"]) for group in grouping.groups),
            (_ELSE, str(Wording("everyone else"))),
        )
    ]


@dataclasses.dataclass(frozen=True)
class Crossed:
    """Two groupings beside each other: how many people are in a group of one and in a group of the
    other, a row for each group of the first."""

    rows: list[Compared]
    columns: list[Compared]
    people: list[list[int]]

    @property
    def totals(self) -> list[int]:
        """How many people each group of the second has."""
        return [sum(column) for column in zip(*self.people, strict=True)]


def crossed(moment: Moment, first: Grouping, second: Grouping) -> Crossed:
    """Two groupings beside each other. Raises DefinitionError where one of them has an error."""
    rows, columns = groups_of(first), groups_of(second)
    across = [members(moment, one) for one in columns]
    people = []
    for one in rows:
        own = members(moment, one)
        people.append([own.intersection_cardinality(other) for other in across])
    return Crossed(rows, columns, people)


def _of(kind: str, number: int, name: str, group: str = "") -> Compared:
    line: dict[str, Any] = {"kind": kind, kind: number}
    if group:
        line["group"] = group
    return Compared(f"{kind}:{number}" + (f":{group}" if group else ""), name, line)


def chosen(session: orm.Session, keys: list[str]) -> list[Compared]:
    """Those that an address names, each once, MOST at the most; a bare number is a segment. Raises
    NotFound for one that is gone."""
    known = {one.key: one for some in every(session).values() for one in some}
    found: dict[str, Compared] = {}
    for key in keys:
        whole = f"segment:{key}" if is_whole(key) else key
        if whole not in known:
            raise NotFound("One of the two no longer exists. Choose another.")
        found[whole] = known[whole]
    return list(found.values())[:MOST]


def members(moment: Moment, one: Compared) -> BitMap:
    """The people of one of them now. Raises Invalid where a segment has an error."""
    return look(moment, _definition(moment, [(one, True)]), STALE).sieve.members


def looked(moment: Moment, one: Compared) -> Looking:
    """How many people are in one of them, and how many of these each channel reaches; in a large
    world as it was some minutes ago, or as a sample says. Raises NoEstimate, and DefinitionError
    where a segment has an error."""
    return look(moment, _definition(moment, [(one, True)]), STALE, estimate=True)


def part(moment: Moment, parts: list[tuple[Compared, bool]]) -> BitMap:
    """The people who are inside of some and outside of others."""
    return look(moment, _definition(moment, parts), None).sieve.members


def lines(parts: list[tuple[Compared, bool]]) -> list[dict[str, Any]]:
    """The lines of a segment of whoever is inside of some and outside of others."""
    return [
        {"id": f"p{place}", **one.line, "inside": inside}
        for place, (one, inside) in enumerate(parts, 1)
    ]


def _definition(moment: Moment, parts: list[tuple[Compared, bool]]) -> Definition:
    return d.parse({"lines": lines(parts)}, moment.words)
