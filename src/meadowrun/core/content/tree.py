"""Where the lines of a document stand: lists inside lists, each with an address.

"" is the document's own list, "ID:c1" the second column of a line, "CASE:case" what a variant
shows, "ID:else" what everyone else sees.
"""

from collections.abc import Iterator
from typing import Any, NamedTuple

from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.lines import Json, walk


class Held(NamedTuple):
    """A list of lines, its address, and whether it stands in a column at any depth."""

    address: str
    lines: list[Json]
    in_columns: bool


def lists(document: Json) -> Iterator[Held]:
    """Every list of lines, each before those inside its lines."""
    yield from _lists("", document["lines"], False)


def _lists(address: str, lines: list[Json], in_columns: bool) -> Iterator[Held]:
    yield Held(address, lines, in_columns)
    for line in lines:
        for number, held in enumerate(line.get("columns", ())):
            yield from _lists(f"{line['id']}:c{number}", held, True)
        for case in line.get("cases", ()):
            yield from _lists(f"{case['id']}:case", case["content"], in_columns)
        if "otherwise" in line:
            yield from _lists(f"{line['id']}:else", line["otherwise"], in_columns)


def find(document: Json, ident: Any) -> tuple[list[Json], int]:
    """The list that holds a line, and its place there."""
    for one in lists(document):
        for index, line in enumerate(one.lines):
            if line["id"] == ident:
                return one.lines, index
    raise DocumentError("That line is no longer there.", str(ident))


def case_at(document: Json, ident: Any) -> tuple[Json, int]:
    """The “only if” line that holds a variant, and the variant's place in it."""
    for one in lists(document):
        for line in one.lines:
            for index, case in enumerate(line.get("cases", ())):
                if case["id"] == ident:
                    return line, index
    raise DocumentError("That variant is no longer there.", str(ident))


def place_for(document: Json, line: Json, address: str) -> list[Json]:
    """The list that a line is put into. Raises DocumentError where it may not stand there."""
    place = next((one for one in lists(document) if one.address == address), None)
    if place is None:
        raise DocumentError("The place for that line is no longer there.")
    inside = list(_lists("", [line], False))[1:]
    if any(one.lines is place.lines for one in inside):
        raise DocumentError("A line cannot be placed inside itself.", line["id"])
    if place.in_columns and any(one["type"] == "columns" for one in walk([line])):
        raise DocumentError(
            "Columns cannot be placed inside columns; phones could not stack them.", line["id"]
        )
    return place.lines
