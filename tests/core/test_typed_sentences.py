"""More than two hundred sentences as people type them, each with the reading that must stand first
and leave no word out."""

import datetime as dt
import pathlib

import pytest

from meadowrun.core.audience import typed
from tests.core.house import WORDS

TODAY = dt.date(2026, 11, 29)
LINES = [
    line.split(" => ")
    for line in pathlib.Path(__file__)
    .with_name("typed_sentences.txt")
    .read_text("utf-8")
    .splitlines()
    if not line.startswith("#")
]


@pytest.mark.parametrize(("sentence", "first"), LINES, ids=[line[0] for line in LINES])
def test_a_sentence_is_read_to_its_last_word(sentence, first):
    reading = typed.read(sentence, WORDS, TODAY)[0]
    assert reading.said == first and reading.unused == ()


@pytest.mark.parametrize(
    "sentence",
    [
        "visited often",
        "renewed early",
        "helpers who lend a telescope",
        "read Another year of stars twice",
        "visited on a Saturday",
        "visited in the evening",
        "clicked a link in the last campaign",
        "opened on a phone",
        "who lives north of the river",
        "frequent visitors",
        "booked a lecture within 3 days of opening the Sky diary",
        "patrons of the opera",
        "visited at least 3 times in the past 6 months but hasn't bought anything from the shop",
    ],
)
def test_what_is_not_understood_is_said(sentence):
    assert all(reading.unused for reading in typed.read(sentence, WORDS, TODAY)[:1])


@pytest.mark.parametrize(
    "sentence",
    ["neither students nor patrons", "looked at tickets in the last week without buying"],
)
def test_a_denial_holds_for_its_own_half(sentence):
    """Two denials are no yes, and one denies no more than what follows it."""
    lines = typed.read(sentence, WORDS, TODAY)[0].line["lines"]
    denied = [line.get("did") is False or line.get("op") == "is_not" for line in lines]
    assert denied == ([True, True] if sentence.startswith("neither") else [False, True])
