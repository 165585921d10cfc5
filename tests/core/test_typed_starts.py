"""What brings people in, as it is typed; each reading was written down by hand."""

import dataclasses

import pytest

from meadowrun.core.journeys import typed
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import Itinerary, Start
from meadowrun.core.journeys.words import as_text, start_words
from tests.core.test_journey_conditions import NAMES

BOUGHT = "someone bought a ticket"
RENEWAL = "their renewal date"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("bought a ticket", BOUGHT),
        ("someone bought a ticket", BOUGHT),
        ("starts when someone buys a ticket", BOUGHT),
        ("whenever somebody visited", "someone visited"),
        ("bought a ticket, also in the last 7 days", f"{BOUGHT}, also in the last 7 days"),
        ("visited, also in the last no days", "someone visited"),
        ("visited and also those of the past two days", "someone visited, also in the last 2 days"),
        (
            "bought a ticket, only if membership is student",
            f"{BOUGHT}, if it is one whose membership is student",
        ),
        ("7 days before renewal date", f"it is 7 days before {RENEWAL}, at 9:00 their time"),
        (
            "2 weeks before their renewal at 10:30",
            f"it is 14 days before {RENEWAL}, at 10:30 their time",
        ),
        (
            "3 days before renewal date at 8:30, only if in Members",
            f"it is 3 days before {RENEWAL}, at 8:30 their time, if it is one who is in “Members”",
        ),
        ("a day after renewal date", f"it is 1 day after {RENEWAL}, at 9:00 their time"),
        (
            "on their birthday",
            "it is the day of their birthday, whatever the year, at 9:00 their time",
        ),
        ("becomes membership is student", "someone becomes one whose membership is student"),
        ("enters the segment Members", "someone becomes one who is in “Members”"),
        ("joins Members", "someone becomes one who is in “Members”"),
        ("is no longer in Members", "someone is no longer one who is in “Members”"),
        ("leaves Members", "someone is no longer one who is in “Members”"),
        (
            "every second Wednesday at 15:30, everyone in Members",
            "it is every second Wednesday, at 15:30 their time, for everyone who is in “Members”",
        ),
        (
            "everyone whose membership is student on the last day of each month",
            "it is the last day of each month, at 9:00 their time, for everyone whose membership "
            "is student",
        ),
        ("everyone in Members", "it is started, for everyone who is in “Members”"),
        (
            "everyone whose membership is student",
            "it is started, for everyone whose membership is student",
        ),
    ],
)
def test_a_start_as_it_is_typed(text, said):
    start, unused = typed.read_start(text, NAMES)[0]
    assert (start_words(start, NAMES), unused) == (said, ())


def test_words_that_nothing_was_made_of_are_told():
    start, unused = typed.read_start("bought a ticket on the moon", NAMES)[0]
    assert (start_words(start, NAMES), unused) == (BOUGHT, ("on", "moon"))


@pytest.mark.parametrize("text", ["", "fly to the moon", "12 hours before renewal date"])
def test_what_is_no_start(text):
    assert typed.read_start(text, NAMES) == []


def test_several_starts_are_said_and_checked_one_by_one():
    found = Itinerary(
        (
            Start("event", "visited", id="s1"),
            Start("event", "ticket_bought", id="s2"),
            Start("event", "visited", id="s3"),
            Start("event", "flew", id="s4"),
        )
    )
    assert as_text(found, NAMES).splitlines()[0] == (
        "Starts when someone visited or someone bought a ticket or someone visited or someone "
        "something that is gone (once per person)"
    )
    assert [(one.line, one.text) for one in check(found, NAMES) if one.line] == [
        ("s4", "The event that starts it is gone. Choose another."),
        ("s3", "This starts it already, above."),
    ]


@pytest.mark.parametrize(
    ("place", "said"),
    [
        ("starts[0].rhythm", {"rhythm": "FREQ=HOURLY"}),
        ("starts[0].first", {"first": "soon"}),
        ("starts[0].who", {"who": {}}),
        ("starts[0].rhythm", {"how": "event", "event": "visited"}),
    ],
)
def test_a_rhythm_that_cannot_be_is_named_by_its_place(place, said):
    start, _ = typed.read_start("every Monday, everyone in Members", NAMES)[0]
    whole = to_json(Itinerary((dataclasses.replace(start, id="s1"),)))
    assert from_json(whole).starts[0].rhythm == "FREQ=WEEKLY;BYDAY=MO"
    whole["starts"][0] |= said
    with pytest.raises(ItineraryError) as found:
        from_json(whole)
    assert found.value.place == place


@pytest.mark.parametrize(
    ("rule", "first", "again", "said"),
    [
        ("FREQ=DAILY;COUNT=3", "2026-11-20", "any", ["None of its days lies ahead."]),
        ("FREQ=DAILY", "2026-11-20", "once", ["Each person comes in on one of its days only."]),
        ("FREQ=DAILY", "2026-11-20", "after", []),
        ("RDATE=20261130", "2026-11-20", "any", []),
        ("RDATE=20261129", "2026-11-20", "any", ["None of its days lies ahead."]),
    ],
)
def test_a_rhythm_is_checked_against_today(rule, first, again, said):
    """Today is 30 November 2026."""
    start, _ = typed.read_start("every Monday, everyone in Members", NAMES)[0]
    start = dataclasses.replace(start, id="s1", rhythm=rule, first=first)
    found = check(Itinerary((start,), again=again), NAMES)
    assert [one.text for one in found if one.line == "s1"] == said


def test_two_starts_have_ids_of_their_own():
    twice = to_json(Itinerary((Start("event", "visited", id="s1"),)))
    twice["starts"] *= 2
    with pytest.raises(ItineraryError) as found:
        from_json(twice)
    assert found.value.place == "starts[1]"
