"""The goal inside the steps: whoever reaches it before goes on from there."""

import datetime as dt
import zoneinfo

import pytest

from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.flat import END, lifts
from meadowrun.core.journeys.one_person import Happened, Person
from meadowrun.core.journeys.reading import from_json, to_json
from meadowrun.core.journeys.steps import (
    ExitRule,
    Goal,
    GoalStep,
    Itinerary,
    Path,
    Span,
    SplitStep,
    Start,
    WaitStep,
)
from meadowrun.core.journeys.words import Names, as_text

BEGAN = dt.datetime(2026, 11, 23, 14, 0, tzinfo=dt.UTC)
DAY = dt.timedelta(days=1)
WAIT = WaitStep("", Span(10, "day"))
BOUGHT = EventSpec(
    1, "bought", "bought a ticket", "buy a ticket", (DetailSpec("amount", "amount", "number"),)
)
NAMES = Names(
    messages={},
    segments={},
    events={"bought": "bought a ticket", "visited": "visited"},
    tags={},
    lists={},
    words=Dictionary({}, {"bought": BOUGHT}),
)


def built(*steps, **more):
    found = Itinerary(**more)
    for step in steps:
        found = edit.add(found, step)
    return found


def two_waits(**goal):
    """Ten days, ten days, the goal, ten days."""
    start = Start("event", "visited", id="start")
    return built(WAIT, WAIT, GoalStep(""), WAIT, starts=(start,), goal=Goal("bought", 30, **goal))


def came(itinerary, *days):
    """The steps that somebody comes to, and after how many days, who buys after so many."""
    person = Person(
        1, zoneinfo.ZoneInfo("UTC"), [Happened("bought", BEGAN + DAY * one) for one in days]
    )
    found = walk(Rules.of(itinerary, "x"), person, BEGAN, BEGAN + 90 * DAY)
    return [(one.step, (one.at - BEGAN).days, one.because) for one in found]


@pytest.mark.parametrize(
    ("days", "way"),
    [
        # Nobody buys: every step in turn.
        (
            (),
            [("s1", 0, "start"), ("s2", 10, "time"), ("s3", 20, "time"), ("s4", 20, "done")],
        ),
        # On day 3, from the first wait past the second.
        ((3,), [("s1", 0, "start"), ("s3", 3, "goal"), ("s4", 3, "done")]),
        (
            (12, 15),
            [("s1", 0, "start"), ("s2", 10, "time"), ("s3", 12, "goal"), ("s4", 12, "done")],
        ),
        # Behind the goal, and after its days, it takes nobody on.
        (
            (25,),
            [("s1", 0, "start"), ("s2", 10, "time"), ("s3", 20, "time"), ("s4", 20, "done")],
        ),
    ],
)
def test_whoever_reaches_it_goes_on_from_there(days, way):
    last = way[-1][1] + 10
    assert came(two_waits(), *days) == [*way, (END, last, "time")]


def test_after_its_days_it_takes_nobody_on():
    short = built(WAIT, GoalStep(""), goal=Goal("bought", 5))
    assert came(short, 7)[1] == ("s2", 10, "time")


def test_what_takes_people_out_at_the_same_moment_counts_more():
    out = edit.add_exit(two_waits(), ExitRule("", "bought"))
    assert came(out, 3) == [("s1", 0, "start"), (END, 3, out.exits[0].id)]


def test_all_steps_before_it_lead_there_also_inside_of_paths():
    paths = edit.equal((Path("", (WAIT,)), Path("")))
    found = built(SplitStep("", paths), GoalStep(""), WAIT, GoalStep(""), goal=Goal("bought", 9))
    split, goal, _, _ = found.steps
    inside = split.paths[0].steps[0]
    assert lifts(found) == {split.id: goal.id, inside.id: goal.id}
    assert lifts(edit.switch(found, goal.id))[inside.id] == found.steps[3].id
    assert lifts(built(WAIT)) == {}


@pytest.mark.parametrize(
    ("itinerary", "said"),
    [
        (two_waits(), []),
        (two_waits(amount="amount"), []),
        (two_waits(amount="gone"), ["The goal’s event has no such amount."]),
        (
            two_waits(ends=True),
            ["The journey ends at the goal: nobody goes on from here by it."],
        ),
        (
            edit.with_goal(two_waits(), None),
            [
                "No goal is set: nobody will see what the journey brought.",
                "Choose the goal below: nobody can reach it yet.",
            ],
        ),
        (
            edit.add(two_waits(), GoalStep("")),
            ["One goal is enough: the first one counts."],
        ),
    ],
)
def test_it_is_checked(itinerary, said):
    assert [one.text for one in check(itinerary, NAMES)] == said


def test_inside_of_a_path_it_is_refused():
    inside = edit.equal((Path("", (GoalStep(""),)), Path("")))
    found = edit.add(two_waits(), SplitStep("", inside), place=0)
    assert "A goal comes after the paths" in " ".join(one.text for one in check(found, NAMES))


def test_it_is_written_read_and_said():
    found = two_waits(amount="amount")
    assert from_json(to_json(found)) == found
    assert "3. Goal: people who reach it earlier continue from here" in as_text(found, NAMES)
