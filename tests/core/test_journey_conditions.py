"""What journeys ask about people: who comes in, who takes which path, what takes them out; waits
for days of the week and for dates; all of it typed, said in words, and checked."""

import dataclasses
import datetime as dt
import zoneinfo

import pytest

from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.core.content.findings import MUST
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.check import check
from meadowrun.core.journeys.concerned import concerned
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.one_person import Happened, Person
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    ExitRule,
    Itinerary,
    JumpStep,
    MessageStep,
    Path,
    Span,
    Start,
    TaskStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.waits import wait_until
from meadowrun.core.journeys.words import (
    Names,
    as_text,
    exit_words,
    line,
    start_words,
    task_words,
)

LONDON, TOKYO = zoneinfo.ZoneInfo("Europe/London"), zoneinfo.ZoneInfo("Asia/Tokyo")
WORDS = Dictionary.of(
    [
        FieldSpec("membership", "membership", "choice", ("standard", "student")),
        FieldSpec("renewal", "renewal date", "date"),
        FieldSpec("born", "birthday", "date"),
        FieldSpec("company.visit", "company’s visit", "date"),
    ],
    [],
    named={"segment": {1: "Members"}, "list": {1: "Volunteers"}},
)
NAMES = Names(
    messages={1: ("Welcome", "Email")},
    segments={1: "Members"},
    events={"visited": "visited", "ticket_bought": "bought a ticket"},
    tags={},
    lists={1: "Volunteers"},
    journeys={7: "First two weeks"},
    words=WORDS,
    today=dt.date(2026, 11, 30),
)
STUDENTS = Who(
    lines=({"id": "m", "kind": "field", "field": "membership", "op": "is", "value": ["student"]},)
)


def at(text):
    return dt.datetime.fromisoformat(text).astimezone(dt.UTC)


DAYS = [Span(0, "minute"), Span(2, "day"), Span(3, "hour")]


# 2026-11-30 is a Monday.
@pytest.mark.parametrize(
    ("step", "arrived", "zone", "over"),
    [
        # until Thursday, from Monday noon: midnight when Thursday begins
        (
            WaitStep("a", DAYS[0], None, 3),
            "2026-11-30T12:00Z",
            LONDON,
            "2026-12-03T00:00Z",
        ),
        # on a Thursday it is over at once
        (
            WaitStep("a", DAYS[0], None, 3),
            "2026-12-03T12:00Z",
            LONDON,
            "2026-12-03T12:00Z",
        ),
        # Thursday 10:00, where ten o'clock is to come
        (
            WaitStep("a", DAYS[0], 600, 3),
            "2026-12-03T09:00Z",
            LONDON,
            "2026-12-03T10:00Z",
        ),
        # and a week later where it is past
        (
            WaitStep("a", DAYS[0], 600, 3),
            "2026-12-03T10:01Z",
            LONDON,
            "2026-12-10T10:00Z",
        ),
        # two days, then Tuesday 9:00: Monday and two is Wednesday, so the Tuesday after
        (
            WaitStep("a", DAYS[1], 540, 1),
            "2026-11-30T12:00Z",
            LONDON,
            "2026-12-08T09:00Z",
        ),
        # Sunday 23:00 in London is Monday morning in Tokyo
        (
            WaitStep("a", DAYS[0], None, 0),
            "2026-11-29T23:00Z",
            TOKYO,
            "2026-11-29T23:00Z",
        ),
        # three hours, then 9:00: the next morning
        (WaitStep("a", DAYS[2], 540), "2026-11-30T07:00Z", LONDON, "2026-12-01T09:00Z"),
        # no time at all until 9:00, which is past today
        (
            WaitStep("a", Span(0, "day"), 540),
            "2026-11-30T10:00Z",
            LONDON,
            "2026-12-01T09:00Z",
        ),
    ],
)
def test_waits_for_a_day_of_the_week(step, arrived, zone, over):
    assert wait_until(step, at(arrived), zone) == at(over)


def before(amount, unit="day", hour=600, **more):
    return WaitStep("a", Span(amount, unit), hour, date="renewal", before=True, **more)


@pytest.mark.parametrize(
    ("step", "date", "over"),
    [
        (before(3), "2026-12-20", "2026-12-17T10:00Z"),
        # the day itself, at midnight on their clock
        (
            WaitStep("a", Span(0, "day"), None, date="renewal"),
            "2026-12-20",
            "2026-12-20T00:00Z",
        ),
        (
            WaitStep("a", Span(1, "week"), 540, date="renewal"),
            "2026-11-28",
            "2026-12-05T09:00Z",
        ),
        # two hours before ten in the morning of the day
        (before(2, "hour"), "2026-12-20", "2026-12-20T08:00Z"),
        # past already, and no date at all
        (before(3), "2026-12-02", None),
        (before(3), None, None),
        # each year: the next one is in 2027 where this year's is past
        (before(3, yearly=True), "1990-12-02", "2027-11-29T10:00Z"),
        (before(3, yearly=True), "1990-12-24", "2026-12-21T10:00Z"),
        # 29 February is the 28th in 2027
        (before(0, yearly=True), "2000-02-29", "2027-02-28T10:00Z"),
        # before New Year, from a day in January
        (before(10, yearly=True), "1990-01-05", "2026-12-26T10:00Z"),
    ],
)
def test_waits_for_a_date(step, date, over):
    day = dt.date.fromisoformat(date) if date else None
    found = wait_until(step, at("2026-11-30T12:00Z"), LONDON, day)
    assert found == (at(over) if over else None)


def test_where_the_moment_has_passed_they_go_on_or_exit():
    for past, to in (("go_on", "s2"), ("exit", "")):
        found = Itinerary()
        for step in (before(3, past=past), WaitStep("", Span(1, "day"))):
            found = edit.add(found, step)
        person = Person(1, LONDON, day=lambda field: dt.date(2026, 11, 1))
        began = at("2026-11-30T12:00Z")
        came = walk(Rules.of(found, "x"), person, began, began)
        assert [(one.step, one.because) for one in came] == [("s1", "start"), (to, "past")]


def test_the_first_event_of_any_exit_rule_takes_them_out_and_the_start_itself_does_not():
    found = edit.add(Itinerary(), WaitStep("", Span(3, "day")))
    found = edit.add_exit(found, ExitRule("", "ticket_bought"))
    found = edit.add_exit(found, ExitRule("", "visited"))
    began = at("2026-11-30T12:00Z")
    person = Person(
        1,
        LONDON,
        [
            Happened("visited", began),
            Happened("visited", began + dt.timedelta(hours=2)),
            Happened("ticket_bought", began + dt.timedelta(hours=5)),
        ],
    )
    until = began + dt.timedelta(days=9)
    came = walk(Rules.of(found, "x"), person, began, until)
    assert [(one.step, one.at, one.because) for one in came] == [
        ("s1", began, "start"),
        ("", began + dt.timedelta(hours=2), found.exits[1].id),
    ]


def test_with_a_subject_what_is_about_another_counts_for_nothing():
    waits = WaitForStep("", Span(5, "day"), (Path("", event="visited"), Path("")))
    found = edit.add(Itinerary(), waits)
    began = at("2026-11-30T12:00Z")
    events = [
        Happened("visited", began + dt.timedelta(hours=1), "6th"),
        Happened("visited", began + dt.timedelta(hours=3)),
    ]
    until = began + dt.timedelta(days=9)

    def when(subject):
        person = Person(1, LONDON, events)
        return walk(Rules.of(found, "x"), person, began, until, subject=subject)[-1].at

    assert when("5th") == began + dt.timedelta(hours=3)
    assert when("6th") == when("") == began + dt.timedelta(hours=1)


def branch(text):
    """The people of a branch that was typed, and what was made of none of its words."""
    best = typed.read(text, NAMES)[0]
    assert isinstance(best.step, BranchStep)
    return best.step.paths[0].who, best.unused


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("if town is Farrow", "whose town is Farrow"),
        ("if they are a student", "whose membership is student"),
        ("if on the list Volunteers", "who is on the list “Volunteers”"),
        (
            "branch renewal date is in the next 30 days",
            "whose renewal date is within the next 30 days",
        ),
        ("if in Members", "in “Members”"),
    ],
)
def test_a_branch_by_a_condition_in_words(text, said):
    who, unused = branch(text)
    step = BranchStep("a", (Path("b", who=who), Path("c")))
    instructions = as_text(Itinerary(steps=(step,)), NAMES)
    assert said in instructions and not unused


@pytest.mark.parametrize(
    ("text", "step"),
    [
        ("wait until Tuesday 10:00", WaitStep("", Span(0, "minute"), 600, 1)),
        ("wait 3 days, then until Friday at 9am", WaitStep("", Span(3, "day"), 540, 4)),
        (
            "wait until 3 days before their renewal date",
            WaitStep("", Span(3, "day"), 540, date="renewal", before=True),
        ),
        (
            "until the day of their birthday at 8:00",
            WaitStep("", Span(0, "day"), 480, date="born", yearly=True),
        ),
        (
            "wait 2 weeks after the company’s visit",
            WaitStep("", Span(2, "week"), 540, date="company.visit"),
        ),
        ("go on to First two weeks", JumpStep("", 7)),
        ("move them to the journey First two weeks", JumpStep("", 7)),
    ],
)
def test_typed_waits_and_ways_over(text, step):
    best = typed.read(text, NAMES)[0]
    assert (best.step, best.unused) == (step, ())


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("as soon as they buy a ticket", "they bought a ticket"),
        ("visited", "they visited"),
        ("membership is student", "they become one whose membership is student"),
        ("in Members", "they become one who is in “Members”"),
    ],
)
def test_exit_rules_in_words(text, said):
    rule, unused = typed.read_exit_rule(text, NAMES)[0]
    assert exit_words(rule, NAMES) == said and not unused


@pytest.mark.parametrize(
    ("start", "said"),
    [
        (Start("turns", who=Who(1)), "someone becomes one who is in “Members”"),
        (Start("turns_not", who=STUDENTS), "someone is no longer one whose membership is student"),
        (
            Start("date", date="renewal", before=7),
            "it is 7 days before their renewal date, at 9:00 their time",
        ),
        (
            Start("date", date="born", at=450, yearly=True),
            "it is the day of their birthday, whatever the year, at 7:30 their time",
        ),
        (
            Start("event", "visited", STUDENTS),
            "someone visited, if it is one whose membership is student",
        ),
        (Start("everyone", who=Who(1)), "it is started, for everyone who is in “Members”"),
    ],
)
def test_starts_in_words(start, said):
    assert start_words(start, NAMES) == said


def test_waits_in_words():
    assert line(before(3), NAMES).what == "until 3 days before renewal date, 10:00"
    tuesday = WaitStep("", Span(0, "minute"), 600, 1)
    assert line(tuesday, NAMES).what == "until Tuesday 10:00 their time"


WHOLE = Itinerary(
    (
        Start("date", "", STUDENTS, "renewal", -3, 600, True, "s8"),
        Start("event", "visited", id="s9"),
    ),
    (
        WaitStep("s1", Span(3, "day"), 600, None, "renewal", True, True, "exit"),
        BranchStep("s2", (Path("s3", who=STUDENTS), Path("s4"))),
        JumpStep("s5", 7),
    ),
    again="any",
    subject="night",
    ids=9,
    exits=(ExitRule("s6", "visited"), ExitRule("s7", who=Who(1))),
)


def test_it_is_read_as_it_was_written():
    assert from_json(to_json(WHOLE)) == WHOLE


@pytest.mark.parametrize(
    ("place", "change"),
    [
        ("starts[0].who", {"starts": [{"id": "s1", "how": "turns"}]}),
        ("starts[0].date", {"starts": [{"id": "s1", "how": "date"}]}),
        ("starts[0].how", {"starts": [{"id": "s1", "how": "by magic"}]}),
        ("exits[0].event", {"exits": [{"id": "x"}]}),
        ("exits[0].event", {"exits": [{"id": "x", "event": "visited", "who": {"segment": 1}}]}),
        ("starts[0].who.lines", {"starts": [{"id": "s1", "how": "event", "who": {"lines": 3}}]}),
        ("steps[0].weekday", {"steps": [{"kind": "wait", "id": "a", "span": {}, "weekday": 7}]}),
        ("steps[0].past", {"steps": [{"kind": "wait", "id": "a", "span": {}, "past": "fly"}]}),
    ],
)
def test_what_cannot_be_is_named_by_its_place(place, change):
    with pytest.raises(ItineraryError) as found:
        from_json(to_json(Itinerary()) | change)
    assert found.value.place == place


def test_what_is_gone_is_found_before_it_starts():
    gone = Itinerary(
        (Start("date", date="gone", who=Who(9), yearly=True, id="start"),),
        (
            WaitStep("s1", Span(1, "day"), date="gone"),
            BranchStep("s2", (Path("s3"), Path("s4"))),
            JumpStep("s5", 99),
        ),
        exits=(ExitRule("s6", "gone"),),
    )
    said = {(one.line, one.text) for one in check(gone, NAMES) if one.level == MUST}
    assert {
        ("start", "The segment is gone. Choose another."),
        ("start", "The date that it starts by is gone. Choose another."),
        ("s1", "The date of this step is gone. Choose another."),
        ("s3", "Choose who takes this path."),
        ("s5", "The journey this step leads to was deleted. Choose another."),
        ("s6", "The event that takes people out is gone."),
    } <= said


def test_whom_a_new_edition_concerns():
    """The wait gets shorter, the branch is taken away and leads on to what followed it."""
    before = Itinerary(
        steps=(
            WaitStep("s1", Span(3, "day")),
            BranchStep("s2", (Path("s3", (WaitStep("s4", Span(1, "day")),), STUDENTS), Path("s5"))),
            WaitStep("s6", Span(1, "week")),
            WaitStep("s7", Span(1, "week")),
        )
    )
    after = Itinerary(
        steps=(
            WaitStep("s1", Span(1, "day")),
            WaitStep("s6", Span(2, "week")),
            WaitStep("s7", Span(1, "week"), 600),
        )
    )
    here = {"s1": 12, "s4": 3, "s6": 1, "s7": 2}
    said = [one.said for one in concerned(before, after, here, NAMES)]
    assert said == [
        "“1 · Wait 3 days”: a shorter wait for 12 people; people whose time is up go on at once",
        "“2a1 · Wait 1 day” is removed; on to “2 · Wait 2 weeks”: 3 people",
        "“3 · Wait 1 week”: a longer wait for 1 person",
        "“4 · Wait 1 week” changes for 2 people",
    ]


@pytest.mark.parametrize(
    ("text", "step"),
    [
        ("call: ask how the first night was", TaskStep("", "call", "ask how the first night was")),
        (
            "task for Hetty Brook: send the brochure, in 3 days",
            TaskStep("", "task", "send the brochure", Span(3, "day"), to=(5,)),
        ),
        (
            "give Hetty and Rob a lead: wants to hire the dome",
            TaskStep("", "lead", "wants to hire the dome", to=(5, 6)),
        ),
        (
            "appointment: show them round within 1 week",
            TaskStep("", "appointment", "show them round", Span(1, "week")),
        ),
    ],
)
def test_typed_tasks(text, step):
    names = dataclasses.replace(NAMES, colleagues={5: "Hetty Brook", 6: "Rob Ash"})
    best = typed.read(text, names)[0]
    assert (best.step, best.unused) == (step, ())


def test_a_task_is_kept_and_said():
    step = TaskStep("s1", "call", "Ask how it was", Span(1, "day"), "high", (5, 6))
    whole = Itinerary(steps=(step,), ids=1)
    assert from_json(to_json(whole)) == whole
    names = dataclasses.replace(NAMES, colleagues={5: "Hetty Brook", 6: "Rob Ash"})
    assert task_words(step, names) == "to Hetty Brook and Rob Ash in turn, due after 1 day"
    assert [one.text for one in check(whole, NAMES) if one.line == "s1"] == [
        "Nobody is left who would get this. Choose a colleague."
    ]


def test_a_reminder_is_typed_in_one_line():
    """Twice at the most, three days apart, until they visit: wait, remind, wait, remind."""
    best = typed.read("remind up to 2 times with Welcome every 3 days until they visited", NAMES)[0]
    visited, three = Path("", event="visited"), Span(3, "day")
    again = WaitForStep("", three, (visited, Path("", (MessageStep("", 1),))))
    assert best.unused == ()
    assert best.step == WaitForStep("", three, (visited, Path("", (MessageStep("", 1), again))))
    once = typed.read("remind them with Welcome unless they bought a ticket", NAMES)[0]
    assert once.step == WaitForStep(
        "", three, (Path("", event="ticket_bought"), Path("", (MessageStep("", 1),)))
    )
    added = edit.add(Itinerary(), best.step)
    assert len({one.id for one, _, _ in added.walk()}) == 4


def test_a_webhook_is_typed_kept_and_said():
    best = typed.read("webhook https://shop.example/hooks/members", NAMES)[0]
    step = WebhookStep("", "https://shop.example/hooks/members")
    assert (best.step, best.unused) == (step, ())
    assert typed.read("call https://shop.example/hook", NAMES)[0].step.kind == "webhook"
    whole = edit.add(Itinerary(), step)
    assert from_json(to_json(whole)) == whole
    assert line(step, NAMES).what == "shop.example/hooks/members"
    with pytest.raises(ItineraryError):
        from_json(to_json(Itinerary()) | {"steps": [{"kind": "webhook", "id": "a"}]})


@pytest.mark.parametrize(
    ("text", "event"),
    [
        ("wait for renewed a membership, 3 days", "renewed"),
        ("wait for started a membership, 3 days", "started"),
        ("wait until they renew a membership, 3 days", "renewed"),
        ("wait until they start a membership, 3 days", "started"),
        ("wait until they buy a ticket, 3 days", "bought"),
    ],
)
def test_events_about_the_same_thing_are_told_apart_by_their_verb(text, event):
    names = dataclasses.replace(
        NAMES,
        events={
            "started": "started a membership",
            "renewed": "renewed a membership",
            "lapsed": "let a membership lapse",
            "bought": "bought a ticket",
        },
    )
    best = typed.read(text, names)[0]
    assert [path.event for path in best.step.paths] == [event, ""] and best.unused == ()
