"""Lanes: groups alongside in one journey, each with its own starts and steps."""

import dataclasses

import pytest

from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec
from meadowrun.core.content.findings import MUST
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.drawing import Flow, lay_out
from meadowrun.core.journeys.flat import END, first_steps, flatten
from meadowrun.core.journeys.reading import MOST_LANES, ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    ExitStep,
    Itinerary,
    JumpStep,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    WaitForStep,
    WaitStep,
    messages_before,
    numbered,
)
from meadowrun.core.journeys.words import Names, as_text

NAMES = Names(
    messages={1: ("Welcome", "Email"), 2: ("For sponsors", "Email")},
    segments={},
    events={"visited": "visited", "gave": "gave money"},
    tags={},
    lists={},
)
DAY = WaitStep("", Span(1, "day"))
OPENED = WaitForStep("", Span(3, "day"), (Path("", reaction="opened"), Path("")))


def two():
    """Members get a welcome; sponsors, beside them, another message, and wait for its opening."""
    found = edit.add(edit.add(Itinerary(), MessageStep("", 1)), DAY)
    found = edit.add_start(found, Start("event", "visited"))
    found = edit.add_lane(found, " Sponsors ")
    lane = found.beside[0].id
    found = edit.add(found, MessageStep("", 2), lane)
    found = edit.add(found, OPENED, lane)
    return edit.add_start(found, Start("event", "gave", lane=lane))


def said(itinerary):
    return [(one.text, one.line) for one in check(itinerary, NAMES) if one.level == MUST]


def test_lanes_never_meet():
    found = two()
    steps, first = flatten(found), first_steps(found)
    members, sponsors = found.lanes
    assert first == {"": members.steps[0].id, sponsors.id: sponsors.steps[0].id}
    assert sponsors.name == "Sponsors"
    assert steps[members.steps[-1].id].next == END
    assert steps[sponsors.steps[-1].id].next == END
    assert dict(steps[sponsors.steps[-1].id].first_of).keys() == {
        path.id for path in sponsors.steps[-1].paths
    }
    assert from_json(to_json(found)) == found


def test_lines_are_numbered_behind_the_letter_of_their_lane():
    found = two()
    names = numbered(found)
    (sponsors,) = found.beside
    wait = sponsors.steps[1]
    assert [names[one.id] for one in found.steps] == ["A1", "A2"]
    assert [names[one.id] for one in sponsors.steps] == ["B1", "B2"]
    assert names[wait.paths[0].id] == "B2a"
    alone = edit.remove_lane(found, sponsors.id)
    assert [numbered(alone)[one.id] for one in alone.steps] == ["1", "2"]


def test_a_lane_goes_with_its_starts_and_what_leads_there():
    found = two()
    (sponsors,) = found.beside
    over = edit.add(found, JumpStep("", 0, sponsors.id))
    elsewhere = edit.add(over, JumpStep("", 7))
    gone = edit.remove_lane(elsewhere, sponsors.id)
    assert [one.event for one in gone.starts] == ["visited"]
    assert [one.kind for one in gone.steps] == ["message", "wait", "jump"]
    assert gone.steps[-1].journey == 7
    with pytest.raises(ItineraryError, match="first lane stays"):
        edit.remove_lane(found, "")


def test_a_step_moves_from_one_lane_into_the_next():
    found = two()
    (sponsors,) = found.beside
    last, first = found.steps[-1], sponsors.steps[0]
    down = edit.move(found, last.id, 1)
    assert [one.id for one in down.beside[0].steps][:2] == [last.id, first.id]
    assert edit.move(down, last.id, -1) == found
    # Above the first and below the last there is nothing.
    assert edit.move(found, found.steps[0].id, -1) == found
    assert edit.move(found, sponsors.steps[-1].id, 1) == found


def test_steps_of_a_lane_are_changed_in_their_place():
    found = two()
    (sponsors,) = found.beside
    wait = sponsors.steps[1]
    named = edit.name_lane(edit.name_lane(found, "", "Members"), sponsors.id, "Patrons")
    assert [one.name for one in named.lanes] == ["Members", "Patrons"]
    inside = edit.add(found, ExitStep(""), wait.paths[1].id)
    assert [one.kind for one in inside.beside[0].steps[1].paths[1].steps] == ["exit"]
    off = edit.switch(found, sponsors.steps[0].id)
    assert first_steps(off)[sponsors.id] == wait.id
    assert edit.run_from(found, wait.id) == (wait,)
    twice = edit.duplicate(found, wait.id)
    assert [one.kind for one in twice.beside[0].steps] == ["message", "wait_for", "wait_for"]
    split = edit.add(found, SplitStep("", edit.equal((Path("a"), Path("b")))), sponsors.id, place=0)
    assert [one.kind for one in split.beside[0].steps] == ["split", "message", "wait_for"]


@pytest.mark.parametrize(
    ("change", "place"),
    [
        ({"starts": [{"id": "x", "how": "event", "event": "visited", "lane": "s99"}]}, "starts[0]"),
        ({"steps": [{"id": "x", "kind": "jump", "journey": 0, "lane": "s99"}]}, "x"),
        ({"beside": [{"steps": []}]}, "beside[0]"),
        ({"beside": [{"id": "l", "steps": "none"}]}, "beside[0].steps"),
        ({"beside": [{"id": f"l{one}"} for one in range(MOST_LANES)]}, "beside"),
        ({"beside": [{"id": "l"}, {"id": "l"}]}, "beside[1]"),
    ],
)
def test_what_is_no_lane_is_named_by_its_place(change, place):
    with pytest.raises(ItineraryError) as problem:
        from_json(to_json(Itinerary()) | change)
    assert problem.value.place == place


def test_no_more_lanes_than_can_be_read():
    found = Itinerary()
    for one in range(MOST_LANES - 1):
        found = edit.add_lane(found, f"{one}")
    with pytest.raises(ItineraryError, match="at most 8 lanes"):
        edit.add_lane(found, "one more")


def test_each_lane_is_checked_by_itself():
    found = two()
    (sponsors,) = found.beside
    assert said(found) == []
    # The message of the first lane is no message before a wait of the second.
    bare = edit.remove(found, sponsors.steps[0].id)
    (wrong,) = said(bare)
    assert "No message goes before this step" in wrong[0] and wrong[1] == sponsors.steps[1].id
    assert messages_before(bare)[sponsors.steps[1].id] == ()
    # The same message in both is no second one: nobody comes from one lane into the other.
    same = edit.set_values(found, sponsors.steps[0].id, message=1)
    assert not [one for one in check(same, NAMES) if "second time" in one.text]
    empty = edit.add_lane(found, "")
    assert said(empty) == [
        ("There is no step yet. Type what happens first.", empty.beside[1].id),
        ("Nothing starts this lane yet. Choose what does.", empty.beside[1].id),
    ]
    # What a step leads into needs no start.
    full = edit.add(empty, DAY, empty.beside[1].id)
    over = edit.add(full, JumpStep("", 0, empty.beside[1].id), sponsors.id)
    assert said(over) == []


def test_what_only_starts_of_another_lane_say_is_not_known_here():
    """A branch asks for the amount, which the event that starts the second lane says."""
    found = two()
    (sponsors,) = found.beside
    asks = BranchStep(
        "",
        (Path("", detail="amount", compare="more", value="4"), Path("", (ExitStep(""),))),
    )
    gave = EventSpec(
        1, "gave", "gave money", "give money", (DetailSpec("amount", "amount", "number"),)
    )
    names = dataclasses.replace(NAMES, words=Dictionary({}, {"gave": gave}))

    def wrong(itinerary):
        return [one.text for one in check(itinerary, names) if one.level == MUST]

    assert wrong(edit.add(found, asks, sponsors.id)) == []
    assert wrong(edit.add(found, asks)) == ["What starts it has no “amount”."]


def test_a_first_lane_that_nothing_starts_is_told_so():
    found = two()
    bare = dataclasses.replace(found, starts=found.starts[1:])
    assert said(bare) == [("Nothing starts this lane yet. Choose what does.", "start")]


def test_a_jump_to_a_lane_is_typed_by_its_name():
    found = two()
    names = NAMES.of(found)
    (sponsors,) = found.beside
    for text in ("go over to lane Sponsors", "jump to Sponsors", "go to the Sponsors lane"):
        (reading, *_) = typed.read(text, names)
        assert reading.step == JumpStep("", 0, sponsors.id), text
        assert reading.unused == ()
    (reading, *_) = typed.read("go over to lane A", names)
    assert reading.step == JumpStep("", 0, "")


def test_lanes_in_words():
    found = two()
    (sponsors,) = found.beside
    over = edit.add(edit.name_lane(found, "", "Members"), JumpStep("", 0, sponsors.id))
    assert as_text(over, NAMES).splitlines()[:7] == [
        "Lane A Members",
        "Starts when someone visited (once per person)",
        "A1. Email: Welcome",
        "A2. Wait: 1 day",
        "A3. Go over: to the lane “Sponsors”",
        "Lane B Sponsors",
        "Starts when someone gave money (once per person)",
    ]


def test_lanes_lie_below_each_other_under_days_of_their_own():
    found = two()
    (sponsors,) = found.beside
    drawn = lay_out(found, Flow(lambda step: 0, lambda step, path: 0, lambda step: 0))
    first, second = drawn.rulers
    assert (first.lane, second.lane) == ("", sponsors.id)
    assert first.foot == second.top and drawn.height == second.foot
    assert [day.minutes for day in second.days] == [0, 0]
    lows = {mark.id: mark.y for mark in drawn.marks}
    assert max(lows[one.id] for one in found.steps) < second.top
    assert min(lows[one.id] for one in sponsors.steps) > second.top
