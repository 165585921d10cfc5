"""Itineraries: read and written, changed by small verbs, and read from what is typed."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.flat import END, flatten
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    Itinerary,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    WaitForStep,
    WaitStep,
    Who,
    numbered,
)
from meadowrun.core.journeys.waits import wait_until
from meadowrun.core.journeys.words import as_text
from tests.core.itinerary_of_two_weeks import LONDON, NAMES, TOKYO, at, built, two_weeks
from tests.itineraries import in_lanes, itineraries


@given(in_lanes())
def test_what_is_written_is_read_again(itinerary):
    assert from_json(to_json(itinerary)) == itinerary


@given(in_lanes())
def test_every_id_comes_once_and_every_step_leads_on(itinerary):
    flat = flatten(itinerary)
    idents = [step.id for step, _, _ in itinerary.walk()]
    on = [step.id for step, _, _ in itinerary.on().walk()]
    assert sorted(flat) == sorted(on) and len(set(idents)) == len(idents)
    for one in flat.values():
        targets = [one.next, *(first for _, first in one.first_of)]
        assert all(target == END or target in flat for target in targets)
    assert set(numbered(itinerary)) >= set(idents)


@pytest.mark.parametrize(
    ("data", "place"),
    [
        ([], "itinerary"),
        ({"steps": {}}, "steps"),
        ({"steps": [{"id": "a", "kind": "fly"}]}, "steps[0].kind"),
        ({"steps": [{"kind": "exit"}]}, "steps[0]"),
        ({"steps": [{"id": "a", "kind": "exit"}, {"id": "a", "kind": "exit"}]}, "steps[1]"),
        (
            {"steps": [{"id": "a", "kind": "wait", "span": {"amount": -1, "unit": "day"}}]},
            "steps[0].span.amount",
        ),
        (
            {"steps": [{"id": "a", "kind": "wait", "span": {"amount": 1, "unit": "year"}}]},
            "steps[0].span.unit",
        ),
        ({"steps": [{"id": "a", "kind": "branch", "paths": []}]}, "steps[0].paths"),
        (
            {
                "steps": [
                    {
                        "id": "a",
                        "kind": "split",
                        "paths": [{"id": "b", "percent": 50}, {"id": "c", "percent": 40}],
                    }
                ]
            },
            "steps[0]",
        ),
        ({"goal": {"days": 3}}, "goal.event"),
        ({"again": "often"}, "again"),
    ],
)
def test_a_mistake_is_named_by_its_place(data, place):
    with pytest.raises(ItineraryError) as refused:
        from_json(data)
    assert refused.value.place == place


def test_numbers_in_the_margin():
    called = numbered(two_weeks())
    assert sorted(called.values()) == ["1", "2", "3", "4", "4a", "4a1", "4b", "4b1", "4c", "5"]


def test_as_instructions():
    assert as_text(two_weeks(), NAMES).splitlines() == [
        "Starts when someone started a membership (once per person)",
        "1. Email: Welcome",
        "2. Wait: 1 day, then until 10:00 their time",
        "3. Text message: Get the sky app",
        "4. Wait for, up to 3 days: the first of these",
        "   4a. if they opened the app",
        "      4a1. Push notification: Tonight",
        "   4b. if it bounced",
        "      4b1. Exit: leaves the journey",
        "   4c. if none of these",
        "5. Wait: 2 days",
        "Leaves as soon as they withdraw all consent",
        "Goal: visited within 14 days",
    ]


# Changes.


def ids(itinerary):
    return [step.id for step, _, _ in itinerary.walk()]


def test_steps_are_moved_and_out_of_their_path():
    found = two_weeks()
    first, second, third, wait_for, inside, leaves, last = ids(found)
    assert ids(edit.move(found, second, -1)) == [second, first, *ids(found)[2:]]
    assert ids(edit.move(found, first, -1)) == ids(found)
    # The only step of a path goes out of it: behind the step at which it parts, or before.
    assert ids(edit.move(found, inside, 1)) == [
        first,
        second,
        third,
        wait_for,
        leaves,
        inside,
        last,
    ]
    assert ids(edit.move(found, inside, -1)) == [
        first,
        second,
        third,
        inside,
        wait_for,
        leaves,
        last,
    ]


def test_steps_are_nested_into_the_path_before_them():
    found = two_weeks()
    last = ids(found)[-1]
    nested = edit.nest(found, last)
    assert [step.id for step in nested.step(ids(found)[3]).paths[0].steps][-1] == last
    with pytest.raises(ItineraryError):
        edit.nest(found, ids(found)[1])


@given(itineraries(), st.data())
def test_changes_keep_it_well_formed(itinerary, data):
    """Whatever is moved, nested, added or taken away, it can be read again, and no step is lost but
    those that were taken away."""
    step = data.draw(st.sampled_from(ids(itinerary)))
    deed = data.draw(st.sampled_from(("up", "down", "nest", "remove", "add")))
    before = set(ids(itinerary))
    if deed == "remove":
        after = edit.remove(itinerary, step)
        gone = {
            inner.id
            for outer in [itinerary.step(step)]
            if isinstance(outer, Parting)
            for path in outer.paths
            for inner, _, _ in Itinerary(steps=path.steps).walk()
        }
        assert set(ids(after)) == before - {step} - gone
    elif deed == "add":
        after = edit.add(itinerary, WaitStep("", Span(1, "day")), place=0)
        assert len(ids(after)) == len(before) + 1 and ids(after)[0] not in before
    elif deed == "nest":
        try:
            after = edit.nest(itinerary, step)
        except ItineraryError:
            return
        assert set(ids(after)) == before
    else:
        after = edit.move(itinerary, step, -1 if deed == "up" else 1)
        assert set(ids(after)) == before
    assert from_json(to_json(after)) == after


def test_paths_are_added_and_taken_away():
    found = built(SplitStep("", (Path("", percent=50), Path("", percent=50))))
    step = found.steps[0].id
    three = edit.add_path(found, step, Path(""))
    assert [path.percent for path in three.steps[0].paths] == [34, 33, 33]
    two = edit.remove_path(three, three.steps[0].paths[1].id)
    assert [path.percent for path in two.steps[0].paths] == [50, 50]
    with pytest.raises(ItineraryError):
        edit.remove_path(two, two.steps[0].paths[0].id)
    branch = built(BranchStep("", (Path("", who=Who(1)), Path("", who=Who(2)), Path(""))))
    with pytest.raises(ItineraryError):
        edit.remove_path(branch, branch.steps[0].paths[-1].id)
    assert len(edit.remove_path(branch, branch.steps[0].paths[0].id).steps[0].paths) == 2


# Time.


@pytest.mark.parametrize(
    ("span", "hour", "arrived", "zone", "over"),
    [
        (Span(3, "day"), None, "2026-11-23T14:00+00:00", LONDON, "2026-11-26T14:00+00:00"),
        (Span(90, "minute"), None, "2026-11-23T14:00+00:00", LONDON, "2026-11-23T15:30+00:00"),
        # The next day at ten, on their own clock: in Tokyo that is another day already.
        (Span(1, "day"), 600, "2026-11-23T14:00+00:00", LONDON, "2026-11-24T10:00+00:00"),
        (Span(1, "day"), 600, "2026-11-23T20:00+00:00", TOKYO, "2026-11-25T10:00+09:00"),
        (Span(1, "week"), 600, "2026-11-23T14:00+00:00", LONDON, "2026-11-30T10:00+00:00"),
        # Two hours, then ten o'clock: today where that is still to come, else tomorrow.
        (Span(2, "hour"), 600, "2026-11-23T07:30+00:00", LONDON, "2026-11-23T10:00+00:00"),
        (Span(2, "hour"), 600, "2026-11-23T08:30+00:00", LONDON, "2026-11-24T10:00+00:00"),
        (Span(0, "minute"), 600, "2026-11-23T10:00+00:00", LONDON, "2026-11-23T10:00+00:00"),
        # 01:30 comes not on the night the clock goes forward, and twice when it goes back: the
        # first of the two.
        (Span(1, "day"), 90, "2026-03-28T12:00+00:00", LONDON, "2026-03-29T01:30+00:00"),
        (Span(1, "day"), 90, "2026-10-24T12:00+01:00", LONDON, "2026-10-25T01:30+01:00"),
    ],
)
def test_when_a_wait_is_over(span, hour, arrived, zone, over):
    assert wait_until(WaitStep("a", span, hour), at(arrived), zone) == at(over)


# Checks.


# Typed steps.

TYPED = [
    ("wait 3 days", WaitStep("", Span(3, "day"))),
    ("wait three days", WaitStep("", Span(3, "day"))),
    ("3 days", WaitStep("", Span(3, "day"))),
    ("wait a week", WaitStep("", Span(1, "week"))),
    ("wait 2 weeks", WaitStep("", Span(2, "week"))),
    ("wait a fortnight", WaitStep("", Span(14, "day"))),
    ("wait 90 minutes", WaitStep("", Span(90, "minute"))),
    ("wait 2 hours", WaitStep("", Span(2, "hour"))),
    ("after 5 days", WaitStep("", Span(5, "day"))),
    ("pause for one day", WaitStep("", Span(1, "day"))),
    ("then wait 1 day until 10:00", WaitStep("", Span(1, "day"), 600)),
    ("wait 1 day, at 9am", WaitStep("", Span(1, "day"), 540)),
    ("wait until 18:30", WaitStep("", Span(0, "minute"), 18 * 60 + 30)),
    ("wait until tomorrow at 8:00", WaitStep("", Span(1, "day"), 480)),
    ("wait until the next morning", WaitStep("", Span(1, "day"), 540)),
    ("email Welcome", MessageStep("", 1)),
    ("send Welcome", MessageStep("", 1)),
    ("send the email Welcome", MessageStep("", 1)),
    ("email “Welcome”", MessageStep("", 1)),
    ("text Get the sky app", MessageStep("", 2)),
    ("send them the text sky app", MessageStep("", 2)),
    ("push Tonight", MessageStep("", 3)),
    ("if in Members", BranchStep("", (Path("", who=Who(1)), Path("")))),
    ("if they are in Dome regulars", BranchStep("", (Path("", who=Who(2)), Path("")))),
    (
        "wait for visited, 3 days",
        WaitForStep("", Span(3, "day"), (Path("", event="visited"), Path(""))),
    ),
    (
        "wait until they bought a ticket, at most 1 week",
        WaitForStep("", Span(1, "week"), (Path("", event="ticket_bought"), Path(""))),
    ),
    (
        "wait up to 2 days for opened",
        WaitForStep("", Span(2, "day"), (Path("", reaction="opened"), Path(""))),
    ),
    (
        "wait for opened, up to 2 days",
        WaitForStep("", Span(2, "day"), (Path("", reaction="opened"), Path(""))),
    ),
    (
        "wait for a click or bought a ticket, 4 days",
        WaitForStep(
            "",
            Span(4, "day"),
            (Path("", reaction="clicked"), Path("", event="ticket_bought"), Path("")),
        ),
    ),
    (
        "wait for opened the app, 3 days",
        WaitForStep("", Span(3, "day"), (Path("", event="app_opened"), Path(""))),
    ),
    (
        "wait for bought, 2 days",
        WaitForStep("", Span(2, "day"), (Path("", event="ticket_bought"), Path(""))),
    ),
    (
        "wait until they buy a ticket",
        WaitForStep("", Span(3, "day"), (Path("", event="ticket_bought"), Path(""))),
    ),
    ("split 50 50", SplitStep("", (Path("", percent=50), Path("", percent=50)))),
    ("split 20/80", SplitStep("", (Path("", percent=20), Path("", percent=80)))),
    ("random split 10%", SplitStep("", (Path("", percent=10), Path("", percent=90)))),
    (
        "split in three ways",
        SplitStep("", (Path("", percent=34), Path("", percent=33), Path("", percent=33))),
    ),
    ("tag vip", ChangeStep("", "tag", 2)),
    ("add the tag season/leonids", ChangeStep("", "tag", 1)),
    ("untag vip", ChangeStep("", "tag", 2, True)),
    ("add to list Open night guests", ChangeStep("", "list", 1)),
    ("remove from the list Open night guests", ChangeStep("", "list", 1, True)),
    ("exit", ExitStep("")),
    ("leave the journey", ExitStep("")),
]


@pytest.mark.parametrize(("text", "step"), TYPED)
def test_typed_steps(text, step):
    found = typed.read(text, NAMES)
    assert found and found[0].step == step
    assert found[0].unused == ()


@pytest.mark.parametrize(
    "text", ["", "hello", "wait", "send Nothing of that name", "split 20 20", "if in Nobody"]
)
def test_what_is_no_step(text):
    assert typed.read(text, NAMES) == []


def test_words_that_nothing_is_made_of_are_said():
    assert typed.read("email Welcome on Tuesdays", NAMES)[0].unused == ("on", "Tuesdays")
    assert typed.read("wait 3 days unless it rains", NAMES)[0].unused == ("unless", "rains")
