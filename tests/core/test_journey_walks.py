"""Somebody walks an itinerary, by histories worked out by hand."""

import datetime as dt

import pytest

from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.flat import first_steps, flatten
from meadowrun.core.journeys.one_person import Answered, Happened, Person
from meadowrun.core.journeys.steps import (
    ExitStep,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    WaitForStep,
    WaitStep,
    messages_before,
    numbered,
)
from meadowrun.core.journeys.words import as_text
from tests.core.itinerary_of_two_weeks import LONDON, NAMES, at, built, said, two_weeks

BEGAN = at("2026-11-02T09:00+00:00")


def way(person, itinerary=None, until="2026-12-30T00:00+00:00"):
    """The numbers of the lines that somebody came to, with day and hour."""
    found = itinerary or two_weeks()
    called = numbered(found)
    came = walk(Rules.of(found, "x"), person, BEGAN, at(until))
    return [(called.get(one.step, "out"), f"{one.at:%d %H:%M}") for one in came]


def sent(step, moment, *reactions):
    return Answered(moment + dt.timedelta(minutes=5), True, reactions)


def test_somebody_who_opens_the_app():
    """Comes in on 2 November at 9:00; the welcome leaves at 9:05; the next day at 10:00 the text,
    at 10:05; the app is opened on the 5th; the push goes five minutes later; two days more."""
    person = Person(1, LONDON, [Happened("app_opened", at("2026-11-05T20:15+00:00"))], answers=sent)
    assert way(person) == [
        ("1", "02 09:00"),
        ("2", "02 09:05"),
        ("3", "03 10:00"),
        ("4", "03 10:05"),
        ("4a1", "05 20:15"),
        ("5", "05 20:20"),
        ("out", "07 20:20"),
    ]


def test_somebody_who_does_nothing():
    person = Person(1, LONDON, [Happened("app_opened", at("2026-11-02T20:15+00:00"))], answers=sent)
    # They opened it before they waited for it: that satisfies nothing.
    assert way(person)[-3:] == [("4", "03 10:05"), ("5", "06 10:05"), ("out", "08 10:05")]


def test_somebody_whose_text_bounces():
    def answers(step, moment):
        return sent(step, moment, ("bounced", moment + dt.timedelta(minutes=6), ""))

    person = Person(1, LONDON, [Happened("app_opened", at("2026-11-05T20:15+00:00"))], (), answers)
    assert way(person)[-2:] == [("4b1", "03 10:06"), ("out", "03 10:06")]


@pytest.mark.parametrize(
    ("clicked", "goes"),
    [
        # Both at once: the very link counts, though any link stands first.
        ((("/book", 60),), "2b1"),
        ((("/more", 60), ("/book", 61)), "2a1"),
        ((("/more", 60),), "2a1"),
        ((), "out"),
    ],
)
def test_one_link_of_several(clicked, goes):
    waits = WaitForStep(
        "",
        Span(3, "day"),
        (
            Path("", (ExitStep(""),), reaction="clicked"),
            Path("", (ExitStep(""),), reaction="clicked", link="/book"),
            Path(""),
        ),
    )
    itinerary = edit.add(edit.add(Itinerary(), MessageStep("", 1)), waits)

    def answers(step, moment):
        after = [("clicked", moment + dt.timedelta(minutes=m), link) for link, m in clicked]
        return sent(step, moment, *after)

    found = [place for place, _ in way(Person(1, LONDON, answers=answers), itinerary=itinerary)]
    assert found[2] == goes


def test_messages_that_may_have_gone_before_a_wait():
    """Not that of the other path; behind the two paths either of theirs; the nearest ones first."""
    waits = WaitForStep("", Span(3, "day"), (Path("", reaction="clicked"), Path("")))
    halves = SplitStep(
        "",
        (
            Path("", (MessageStep("", 2, instead=(5,)),), percent=50),
            Path("", (waits, MessageStep("", 3)), percent=50),
        ),
    )
    found = built(waits, MessageStep("", 1), halves, waits)
    assert list(messages_before(found).values()) == [(), (1,), (2, 5, 1, 3)]


def test_somebody_who_may_not_be_written_to():
    def answers(step, moment):
        return Answered(moment, False)

    assert way(Person(1, LONDON, answers=answers))[-1] == ("out", "08 10:00")
    leaves = built(MessageStep("", 1, refused="exit"), WaitStep("", Span(1, "day")))
    assert way(Person(1, LONDON, answers=answers), leaves) == [
        ("1", "02 09:00"),
        ("out", "02 09:00"),
    ]


def test_nobody_goes_on_before_it_is_handed_over():
    assert way(Person(1, LONDON)) == [("1", "02 09:00")]
    assert way(Person(1, LONDON, answers=sent), until="2026-11-02T09:04+00:00") == [
        ("1", "02 09:00")
    ]


def test_chance_is_steady_and_by_shares():
    """Of 20,000 people a share of 30% is within 1% of that; each goes the same way again."""
    step = SplitStep("s", (Path("a", percent=30), Path("b", percent=70)))
    taken = [path_by_chance(step, person, "journey 1") for person in range(20_000)]
    assert abs(taken.count("a") / 20_000 - 0.3) < 0.01
    assert taken == [path_by_chance(step, person, "journey 1") for person in range(20_000)]
    other = [path_by_chance(step, person, "journey 2") for person in range(20_000)]
    assert 0.3 < sum(one != two for one, two in zip(taken, other, strict=True)) / 20_000 < 0.6


def test_people_pass_by_what_is_switched_off():
    whole = two_weeks()
    welcome, day, _, wait_for, _ = whole.steps
    off = edit.switch(edit.switch(whole, welcome.id), wait_for.paths[0].steps[0].id)
    assert first_steps(off)[""] == day.id
    steps = flatten(off)
    assert welcome.id not in steps and len(steps) == len(flatten(whole)) - 2
    # The path of which all is switched off leads behind the step at which they part.
    assert dict(steps[wait_for.id].first_of)[wait_for.paths[0].id] == off.steps[4].id
    # Where it parts is switched off, so is all that is inside.
    assert len(flatten(edit.switch(whole, wait_for.id))) == 4
    assert edit.switch(edit.switch(whole, welcome.id), welcome.id) == whole
    # What is not done lacks nothing.
    gone = edit.switch(built(MessageStep("", 99), WaitStep("", Span(1, "day"))), "s1")
    assert not [text for text, stops in said(gone) if "message" in text]
    assert "1. Email, switched off: Welcome" in as_text(off, NAMES)
