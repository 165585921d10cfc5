"""Itineraries: read and written, changed by small verbs, read from what is typed, checked, walked
by hand-worked histories, and drawn without one label upon another."""

import dataclasses
import datetime as dt
import zoneinfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.core.content.findings import MUST
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.flat import END, first_steps, flatten
from meadowrun.core.journeys.one_person import Answered, Happened, Person
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    Goal,
    Itinerary,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    WaitForStep,
    WaitStep,
    Who,
    messages_before,
    numbered,
)
from meadowrun.core.journeys.waits import wait_until
from meadowrun.core.journeys.words import Names, as_text
from tests.itineraries import in_lanes, itineraries

LONDON = zoneinfo.ZoneInfo("Europe/London")
TOKYO = zoneinfo.ZoneInfo("Asia/Tokyo")
NAMES = Names(
    messages={
        1: ("Welcome", "Email"),
        2: ("Get the sky app", "Text message"),
        3: ("Tonight", "Push notification"),
    },
    segments={1: "Members", 2: "Dome regulars"},
    events={
        "membership_started": "started a membership",
        "visited": "visited",
        "ticket_bought": "bought a ticket",
        "app_opened": "opened the app",
    },
    tags={1: "season/leonids", 2: "vip"},
    lists={1: "Open night guests"},
)


def at(text):
    return dt.datetime.fromisoformat(text).astimezone(dt.UTC)


def built(*steps, **more):
    found = Itinerary(**more)
    for step in steps:
        found = edit.add(found, step)
    return found


def two_weeks():
    """The worked example: welcome, a day, a text, up to three days for the app, then two ways."""
    return built(
        MessageStep("", 1),
        WaitStep("", Span(1, "day"), 600),
        MessageStep("", 2),
        WaitForStep(
            "",
            Span(3, "day"),
            (
                Path("", (MessageStep("", 3),), event="app_opened"),
                Path("", (ExitStep(""),), reaction="bounced"),
                Path(""),
            ),
        ),
        WaitStep("", Span(2, "day")),
        starts=(Start("event", "membership_started", id="start"),),
        goal=Goal("visited", 14),
    )


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


# Checks.


def said(itinerary, unsendable=()):
    return [(one.text, one.level == MUST) for one in check(itinerary, NAMES, unsendable)]


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


# Steps that are switched off.


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
