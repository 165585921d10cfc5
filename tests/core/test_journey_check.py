"""What the check of an itinerary says of it."""

import dataclasses

import pytest

from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    WaitForStep,
    WaitStep,
    Who,
)
from tests.core.itinerary_of_two_weeks import NAMES, built, said, two_weeks

TWICE = "Some people get “Welcome” a second time here."
SOON = "Few people react to a message so soon. Give it more time."
WELCOME = MessageStep("", 1)
HALVES = SplitStep("", (Path("", (WELCOME,), percent=50), Path("", percent=50)))


@pytest.mark.parametrize(
    ("itinerary", "lines"),
    [
        (built(WELCOME, WaitStep("", Span(1, "day"))), []),
        (built(WELCOME, WELCOME), ["s2"]),
        # In two paths of one step nobody gets it twice; behind them half of them do.
        (built(dataclasses.replace(HALVES, paths=(HALVES.paths[0],) * 2)), []),
        (built(HALVES, WELCOME), ["s5"]),
        (built(WELCOME, HALVES), ["s4"]),
        (built(MessageStep("", 0), MessageStep("", 0)), []),
    ],
)
def test_what_people_get_a_second_time(itinerary, lines):
    found = [one.line for one in check(itinerary, NAMES) if one.text == TWICE]
    assert found == lines


@pytest.mark.parametrize(
    ("span", "path", "soon"),
    [
        (Span(3, "hour"), Path("", reaction="opened"), True),
        (Span(4, "hour"), Path("", reaction="opened"), False),
        (Span(1, "hour"), Path("", event="visited"), False),
        (Span(1, "hour"), Path("", reaction="bounced"), False),
    ],
)
def test_a_wait_that_is_over_before_anybody_could_react(span, path, soon):
    itinerary = built(WELCOME, WaitForStep("", span, (path, Path(""))))
    assert (SOON in [one.text for one in check(itinerary, NAMES)]) == soon


def test_nothing_is_missing():
    assert said(two_weeks()) == []


@pytest.mark.parametrize(
    ("itinerary", "text", "stops"),
    [
        (Itinerary(), "Nothing starts this journey yet. Choose what does.", True),
        (Itinerary(), "There is no step yet. Type what happens first.", True),
        (
            Itinerary(),
            "No goal is set: nobody will see what the journey brought.",
            False,
        ),
        (built(MessageStep("", 9)), "Choose the message of this step, or write it.", True),
        (
            built(WaitForStep("", Span(1, "day"), (Path("", reaction="opened"), Path("")))),
            "No message goes before this step: nobody can react to one.",
            True,
        ),
        (
            built(BranchStep("", (Path("", who=Who(9)), Path("")))),
            "The segment is gone. Choose another.",
            True,
        ),
        (
            built(WaitForStep("", Span(1, "day"), (Path("", event="flew"), Path("")))),
            "Choose what this path waits for.",
            True,
        ),
        (
            built(ExitStep(""), MessageStep("", 1)),
            "Nobody can get here: everyone has left before.",
            True,
        ),
        (
            built(
                BranchStep("", (Path("", (ExitStep(""),), Who(1)), Path("", (ExitStep(""),)))),
                MessageStep("", 1),
            ),
            "Nobody can get here: everyone has left before.",
            True,
        ),
        (
            built(ChangeStep("", "tag", 9)),
            "What this step gives or takes is gone.",
            True,
        ),
        (built(WaitStep("", Span(0, "day"))), "This step waits no time at all.", False),
    ],
)
def test_what_is_missing_is_said(itinerary, text, stops):
    assert (text, stops) in said(itinerary)


def test_a_message_that_nobody_approved():
    assert ("Nobody has approved this message yet.", True) in said(two_weeks(), {2})
