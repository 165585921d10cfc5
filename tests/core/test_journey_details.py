"""What branches ask of the event that started a journey."""

import json

import pytest

from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.details import answered, holds
from meadowrun.core.journeys.steps import BranchStep, Itinerary, Path, Start, Who
from meadowrun.core.journeys.words import step_words
from tests.core.test_typed_steps import NAMES


@pytest.mark.parametrize(
    ("said", "compare", "value", "true"),
    [
        (51, "more", "50", True),
        (50, "more", "50", False),
        ("50.5", "more", "50,4", True),
        (49.5, "less", "50", True),
        ("fifty", "more", "50", False),
        ("fifty", "less", "50", False),
        ("1,234.50", "more", "1234", True),
        # What only a machine calls a number is none.
        ("nan", "less", "50", False),
        (10, "less", "infinity", False),
        (50, "is", "50.0", True),
        (50, "is_not", "50.0", False),
        ("Moons ", "is", "moons ", True),
        ("Ärger", "is", "ärger", True),
        ("Moons", "is_not", "Stars", True),
        (True, "is", "true", True),
        # What the event does not say is not that, and nothing else.
        (None, "is", "", False),
        (None, "is_not", "x", True),
        (None, "more", "0", False),
        ([1], "is", "[1]", False),
        ({"a": 1}, "is_not", "x", True),
    ],
)
def test_a_detail_is_compared(said, compare, value, true):
    path = Path("", detail="it", compare=compare, value=value)
    assert holds(path, {"it": said, "other": 1}) is true


def test_nothing_is_known_without_an_event():
    assert not holds(Path("", detail="it", compare="is", value="1"), None)
    assert holds(Path("", detail="it", compare="is_not", value="1"), {})


@pytest.mark.parametrize(
    ("text", "detail", "compare", "value"),
    [
        ("if the event’s amount is over 50", "amount", "more", "50"),
        ("if event amount is less than 20", "amount", "less", "20"),
        ("if the event's night is not Leonids", "night", "is_not", "Leonids"),
        ("if event lecture is “Moons with oceans”", "lecture", "is", "Moons with oceans"),
    ],
)
def test_typed(text, detail, compare, value):
    found = typed.read(text, NAMES)[0]
    assert found.unused == ()
    assert found.step.paths[0] == Path("", detail=detail, compare=compare, value=value)


def test_it_is_said_and_checked():
    path = Path("", detail="amount", compare="more", value="50")
    both = Path("", who=Who(1), detail="amount", compare="is", value="9")
    branch = BranchStep("", (path, both, Path("")))
    assert step_words(branch, NAMES) == (
        "Branch: the event’s amount is more than 50 / the event’s amount is 9, and one who is in "
        "“Members” / everyone else"
    )
    for event, value, wrong in (
        ("ticket_bought", "50", []),
        ("visited", "50", ["What starts it has no “amount”."]),
        ("ticket_bought", "much", ["Compare it with a number."]),
    ):
        asked = BranchStep("", (Path("", detail="amount", compare="more", value=value), Path("")))
        whole = edit.add(Itinerary(starts=(Start("event", event, id="start"),)), asked)
        path_id = whole.steps[0].paths[0].id
        assert [one.text for one in check(whole, NAMES) if one.line == path_id] == wrong


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (
            '{"level": "gold", "Risk score": 4.5, "ok": true}',
            (("level", "gold"), ("risk_score", 4.5), ("ok", True)),
        ),
        ('{"a": null, "b": [1], "c": {"d": 1}}', ()),
        ('{"": "x", "…": "y"}', ()),
        ('["gold"]', ()),
        ('"gold"', ()),
        ("3", ()),
        ("", ()),
        ("not found", ()),
        ('{"level": "gold"', ()),
    ],
)
def test_what_an_answer_says_that_branches_can_ask(text, said):
    assert answered(text) == {f"answer_{name}": value for name, value in said}


def test_of_an_answer_without_end_only_so_much_is_kept():
    found = answered(json.dumps({f"key {n}": "x" * 999 for n in range(99)}))
    assert len(found) == 20 and {len(value) for value in found.values()} == {200}
