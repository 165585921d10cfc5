"""A definition from elsewhere finds what it names by name."""

import pytest

from meadowrun.core.audience.carried import at_home, names
from meadowrun.core.audience.definition import DefinitionError
from meadowrun.core.audience.fields import Dictionary

LINES = [
    {"id": "a", "kind": "list", "list": 3},
    {"id": "b", "kind": "consent", "topic": 2, "state": "agreed"},
    {"id": "c", "kind": "consent", "topic": 0, "state": "agreed"},
    {"id": "d", "kind": "mail", "what": "opened", "of": {"send": 9}},
    {
        "id": "g",
        "kind": "group",
        "match": "any",
        "lines": [{"id": "e", "kind": "grouping", "grouping": 5, "group": "p"}],
    },
    {"id": "t", "kind": "tag", "tag": 4, "inside": True},
    {"id": "s", "kind": "score", "score": 2, "op": "at_least", "value": 1},
    {"id": "m", "kind": "mail", "what": "opened", "of": {"tag": 4}},
]
MORE = {"tag": {4: "desk/called"}, "score": {2: "Interest"}}
THERE = Dictionary.of(
    [],
    [],
    named={
        "list": {3: "Guests"},
        "topic": {2: "Diary"},
        "send": {9: "Letter"},
        "grouping": {5: "Regions"},
        **MORE,
    },
)
HERE = Dictionary.of(
    [],
    [],
    named={
        "list": {3: "Others", 8: "Guests"},
        "topic": {2: "Diary"},
        "send": {1: "Letter"},
        "grouping": {6: "Regions"},
        "tag": {9: "desk/called", 4: "desk"},
        "score": {7: "Interest"},
    },
)


def test_there_and_here():
    known = names(LINES, THERE)
    assert known == {
        "list": {"3": "Guests"},
        "topic": {"2": "Diary"},
        "send": {"9": "Letter"},
        "grouping": {"5": "Regions"},
        "tag": {"4": "desk/called"},
        "score": {"2": "Interest"},
    }
    made = at_home(LINES, known, HERE)
    assert [
        made[0]["list"],
        made[1]["topic"],
        made[2]["topic"],
        made[3]["of"]["send"],
        made[4]["lines"][0]["grouping"],
    ] == [8, 2, 0, 1, 6]
    assert [made[5]["tag"], made[6]["score"], made[7]["of"]["tag"]] == [9, 7, 9]
    assert LINES[0]["list"] == 3, "what was given stays as it was"


def test_what_is_not_here_is_named():
    with pytest.raises(DefinitionError, match="no topic called “Diary” here"):
        at_home(LINES, names(LINES, THERE), Dictionary.of([], [], named={"list": {8: "Guests"}}))


def test_without_names_numbers_stay():
    assert at_home(LINES, {}, HERE) == LINES and at_home(
        [None, "x", {"lines": [5]}], {"list": "x"}, HERE
    ) == [None, "x", {"lines": [5]}]
