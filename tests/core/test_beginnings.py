"""Itineraries to begin from: each can be written, read, drawn and said, and lacks what is for its
author to choose, nothing else."""

import pytest

from meadowrun.core.content.findings import MUST
from meadowrun.core.journeys.beginnings import BEGINNINGS
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.drawing import Flow, lay_out
from meadowrun.core.journeys.reading import from_json, to_json
from meadowrun.core.journeys.words import Names, as_text

NAMES = Names(messages={}, segments={}, events={}, tags={}, lists={})
LEFT = {
    "Nothing starts this journey yet. Choose what does.",
    "Choose the message of this step, or write it.",
}


def test_there_are_a_dozen():
    assert len(BEGINNINGS) == 12


@pytest.mark.parametrize("key", BEGINNINGS)
def test_each_lacks_only_what_its_author_chooses(key):
    found = BEGINNINGS[key].itinerary()
    assert from_json(to_json(found)) == found
    assert {one.text for one in check(found, NAMES) if one.level == MUST} <= LEFT
    said = as_text(found, NAMES)
    assert "is gone" not in said
    notes = [step.note for step, _, _ in found.walk() if step.kind == "message"]
    assert notes and all(f"({note})" in said for note in notes)
    nothing = lay_out(found, Flow(lambda step: 0, lambda step, path: 0, lambda step: 0))
    assert len(nothing.marks) == len(list(found.walk()))
