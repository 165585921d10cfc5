"""Rehearsals: every way that is imagined is the one that the judge walks for the same person, and
what is counted adds up; worked examples by hand."""

import dataclasses
import datetime as dt
import zoneinfo

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.clocks import Clocks
from meadowrun.core.journeys.doors import their_turns, with_room
from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.flat import END, first_steps, flatten, lifts
from meadowrun.core.journeys.imagined import Leaving, Pasts, People, Starts, World
from meadowrun.core.journeys.one_person import Answered, Happened, Person
from meadowrun.core.journeys.rehearsal import options, rehearse
from meadowrun.core.journeys.steps import (
    REACTIONS,
    BranchStep,
    ExitRule,
    Goal,
    Itinerary,
    MessageStep,
    Path,
    Span,
    SplitStep,
    WaitForStep,
    WaitStep,
    Who,
)
from meadowrun.core.timing.hours import Hours
from tests.itineraries import itineraries

BEGINS = dt.date(2026, 11, 2)
ZONES = [zoneinfo.ZoneInfo(name) for name in ("Europe/London", "Asia/Tokyo", "UTC")]
CLOCKS = Clocks.of(BEGINS, 200, ZONES)
#: Weeks of waiting in the deepest itinerary that is drawn.
UNTIL = 190 * 24 * 60.0
FIRST = dt.datetime.combine(BEGINS, dt.time(), dt.UTC)
#: Person 2 said no; 1 and 4 are in the segment; who has which renewal date.
SAID_NO, INSIDE = 2, {1, 4}
RENEWALS = {1: dt.date(2026, 11, 9), 3: dt.date(2026, 12, 20), 4: dt.date(2024, 2, 29)}


def moment(minutes):
    return FIRST + dt.timedelta(minutes=float(minutes))


def days_of(step, contact):
    """The days that come into question for a wait, as numbers from the beginning."""
    date = RENEWALS.get(contact)
    if date is None:
        return [np.nan] * 4
    if not step.yearly:
        return [(date - BEGINS).days, *[np.nan] * 3]
    found = []
    for year in range(2025, 2029):
        try:
            found.append(date.replace(year=year))
        except ValueError:
            found.append(dt.date(year, 2, 28))
    return [(day - BEGINS).days for day in found]


def world(itinerary, people, pasts, reacted, limits=(), hours=(), **more):
    """Some people on three clocks, each of whom comes in once, at ten minutes after each other."""
    steps = [one for one, _, _ in itinerary.walk()]
    messages = [one for one in steps if isinstance(one, MessageStep)]
    contacts = np.arange(1, people + 1)
    branches = [one for one in steps if isinstance(one, BranchStep)]
    inside = np.array([one in INSIDE for one in contacts])
    none = np.zeros(people, bool)
    everybody = tuple(range(len(limits)))
    return World(
        CLOCKS,
        People(
            contacts,
            contacts % len(ZONES),
            {
                option: np.array(
                    ["no_consent" if c == SAID_NO and option == one.id else "go" for c in contacts]
                )
                for one in messages
                for option in options(one)
            },
            {
                path.id: inside if path.who.segment == 1 or path.who.lines else none
                for step in branches
                for path in step.paths[:-1]
            },
            {
                one.id: np.array([days_of(one, c) for c in contacts], float)
                for one in steps
                if isinstance(one, WaitStep) and one.date
            },
            {place: np.full((people, 1), np.inf) for place in everybody},
        ),
        Pasts(
            pasts,
            dict.fromkeys((each for one in messages for each in options(one)), reacted),
            [{"amount": one + 1} for one in range(people)],
        ),
        Starts(
            np.arange(people),
            np.arange(people),
            np.zeros(people, np.int64),
            10.0 * np.arange(1, people + 1),
        ),
        1,
        UNTIL,
        {
            option: Leaving("email", tuple(hours), one.hold * 60.0, everybody, everybody)
            for one in messages
            for option in options(one)
        },
        tuple(limits),
        {},
        "x",
        **more,
    )


def rows(timelines):
    """Timelines of minutes as one array, each filled up with infinity."""
    most = max([len(one) for one in timelines], default=0)
    return np.array([[*sorted(one), *[np.inf] * (most - len(one))] for one in timelines], float)


minutes = st.lists(st.integers(1, 40 * 24 * 60), max_size=4)
#: Whom a rule takes out who are certain people: of each the days from and to which they are.
TAKES_OUT = Who(segment=3)
exits = st.sampled_from(
    (
        (),
        (),
        (ExitRule("x1", "visited"),),
        (ExitRule("x1", who=TAKES_OUT),),
        (ExitRule("x1", "visited"), ExitRule("x2", who=TAKES_OUT)),
    )
)
spells = st.lists(st.tuples(st.integers(0, 30), st.integers(0, 30)), min_size=5, max_size=5)
#: So many days it is looked at.
LOOKED = 40


@settings(max_examples=150, deadline=None)
@given(
    itineraries(messages=(1,), segments=(1, 2), events=("visited", "ticket_bought")),
    st.lists(minutes, min_size=5, max_size=5),
    st.lists(minutes, min_size=5, max_size=5),
    st.tuples(*[st.sampled_from((5.0, 600.0, 9000.0, np.inf))] * len(REACTIONS)),
    exits,
    spells,
    st.sampled_from((None, Goal("ticket_bought", 20))),
)
def test_every_way_is_the_one_that_the_judge_walks(
    drawn, visits, tickets, reacted, rules, spells, goal
):
    itinerary = dataclasses.replace(drawn, exits=rules, goal=goal)
    judged = Rules.of(itinerary, "x")
    steps, first = flatten(itinerary), first_steps(itinerary)[""]
    pasts = {"visited": rows(visits), "ticket_bought": rows(tickets)}
    asked = world(itinerary, 5, pasts, np.array([reacted]))
    past = lifts(itinerary)
    assume(first != END)
    days = np.arange(LOOKED)
    inside = np.array([(since <= days) & (days < until) for since, until in spells])
    taken_out = {rule.id: inside for rule in rules if rule.who}
    asked = dataclasses.replace(
        asked, people=dataclasses.replace(asked.people, taken_out=taken_out)
    )
    found = rehearse(steps, first, asked, rules, goal, past)
    for place in range(5):
        began = 10.0 * (place + 1)
        contact = place + 1

        def answers(step, at, contact=contact):
            # Whoever said no to the first message of a step may get any other of it.
            asked = steps[step].step
            if asked.kind == "webhook":
                return Answered(at, True)
            if contact == SAID_NO and not asked.instead:
                return Answered(at, False)
            came_back = [
                (kind, at + dt.timedelta(minutes=after), "")
                for kind, after in zip(REACTIONS, reacted, strict=True)
                if np.isfinite(after)
            ]
            return Answered(at, True, came_back)

        events = [
            Happened(kind, moment(began + one))
            for kind, timelines in (("visited", visits), ("ticket_bought", tickets))
            for one in timelines[place]
        ]
        person = Person(
            contact,
            ZONES[contact % len(ZONES)],
            sorted(events, key=lambda one: one.at),
            lambda who, at, contact=contact: (
                inside[contact - 1, (at - FIRST).days]
                if who == TAKES_OUT
                else (who.segment == 1 or bool(who.lines)) and contact in INSIDE
            ),
            answers,
            lambda field, contact=contact: RENEWALS.get(contact),
            {"amount": contact},
            looks=[moment(day * 24 * 60) for day in range(LOOKED)],
            worked=[moment(began)],
        )
        expected = [
            (one.step, one.at, "no_consent" if one.because == "refused" else one.because)
            for one in walk(judged, person, moment(began), moment(UNTIL))
        ]
        assert [(one.step, moment(one.at), one.because) for one in found.ways[place]] == expected
    left = sum(one.middle for one in found.left.values())
    assert found.entered.middle == found.inside.middle + found.finished.middle + left == 5


def built(*steps):
    made = Itinerary()
    for step in steps:
        made = edit.add(made, step)
    return made


def told(itinerary, **more):
    """Ten people who come in ten minutes after each other; nobody reacts unless told otherwise."""
    pasts = more.pop("pasts", {})
    reacted = np.array([more.pop("reacted", [np.inf] * len(REACTIONS))])
    shares = more.pop("shares", {})
    goal = more.pop("goal", None)
    says = {
        name: more.pop(name) for name in ("answers", "wished", "gap", "most_inside") if name in more
    }
    asked = world(itinerary, 10, pasts, reacted, **more)
    asked = dataclasses.replace(asked, shares=shares, **says)
    return rehearse(flatten(itinerary), first_steps(itinerary)[""], asked, itinerary.exits, goal)


def test_a_welcome_and_who_reacts():
    """Ten come in, one of whom said no to email: nine get it, open it after five minutes, and take
    the path of those who do; the tenth waits three days."""
    itinerary = built(
        MessageStep("", 1),
        WaitForStep("", Span(3, "day"), (Path("", reaction="opened"), Path(""))),
        MessageStep("", 1),
    )
    found = told(itinerary, reacted=[5.0, np.inf, np.inf, np.inf])
    opened, none = itinerary.steps[1].paths
    assert found.sent["s1"].middle == 9
    assert found.kept_back["s1"]["no_consent"].middle == 1
    assert (found.took[opened.id].middle, found.took[none.id].middle) == (9, 1)
    assert found.finished.middle == 10
    # All on the first day, and nobody on any day after; nobody is on the step three days later.
    assert found.a_day["email"][0] == 18 and found.a_day["email"][1:].sum() == 0
    assert found.here["s2"][0] == 1 and found.here["s2"][4] == 0


def test_only_so_many_are_inside_at_once():
    """Ten come ten minutes after each other and stay 25 minutes, two at most: of every three the
    third finds it full, as the first leaves five minutes later."""
    found = told(built(WaitStep("", Span(25, "minute"))), most_inside=2)
    assert (found.entered.middle, found.full.middle, found.finished.middle) == (7, 3, 7)
    assert sorted(found.ways) == [0, 1, 3, 4, 6, 7, 9]
    # Room for everybody: it is as if there were no limit.
    assert told(built(WaitStep("", Span(25, "minute"))), most_inside=3).entered.middle == 10


@given(
    st.lists(st.tuples(st.integers(0, 2), st.integers(0, 60), st.integers(1, 40)), max_size=30),
    st.integers(1, 4),
)
def test_who_finds_room_is_who_a_plain_count_lets_in(drawn, most):
    """Counted anew for each, one after the other, as they come."""
    play, at, stay = (np.array([one[n] for one in drawn], dtype=float) for n in range(3))
    starts = Starts(np.arange(len(drawn)), np.arange(len(drawn)), play.astype(np.int64), at)
    found = with_room(starts, at + stay, most)
    expected = {}
    for one in sorted(range(len(drawn)), key=lambda place: (at[place], place)):
        inside = [
            other
            for other, came in expected.items()
            if came and play[other] == play[one] and at[other] + stay[other] > at[one]
        ]
        expected[one] = len(inside) < most
    assert [expected[one] for one in range(len(drawn))] == found.tolist()


def test_hours_move_what_leaves_to_the_morning():
    """They come in from 00:10 on; who lives in London and by UTC (numbers 2 and 3 of three clocks)
    waits until nine; in Tokyo it is nine already."""
    itinerary = built(MessageStep("", 1))
    found = told(itinerary, hours=[Hours(9 * 60, 17 * 60)])
    gone = {place: way[-1].at for place, way in found.ways.items()}
    for place in range(10):
        came = 10.0 * (place + 1)
        tokyo = (place + 1) % 3 == 1
        no = place + 1 == SAID_NO
        assert gone[place] == (came if tokyo or no else 9 * 60)


def test_a_limit_has_them_wait_and_keeps_back_what_waits_too_long():
    """At most one a week: of three messages, the second waits until Monday, the third a week more;
    where it may wait for two days only it is not sent."""
    steps = [MessageStep("", 1, 24 * 30), MessageStep("", 1, 24 * 30), MessageStep("", 1, 48)]
    found = told(built(*steps), limits=[Cap(1, 1, "week")])
    assert found.sent["s1"].middle == found.sent["s2"].middle == 9
    assert found.kept_back["s3"] == {
        "no_consent": found.kept_back["s1"]["no_consent"],
        "too_late": found.sent["s1"],
    }
    # Monday the 9th: the week after that in which they came in.
    assert found.a_day["email"][0] == 9
    assert found.a_day["email"][6:8].sum() == 9
    assert found.delayed.middle == 18


def test_who_asked_for_less_waits_and_nobody_else_does():
    """Persons 1 and 4 want at most one message a week: their second waits until Monday the 9th."""
    steps = [MessageStep("", 1, 24 * 30), MessageStep("", 1, 24 * 30)]
    wish = {0: np.isin(np.arange(1, 11), (1, 4))}
    found = told(built(*steps), limits=[Cap(1, 1, "week")], wished=wish)
    assert found.delayed.middle == 2
    assert found.a_day["email"][0] == 9 + 7
    assert found.a_day["email"][6:8].sum() == 2


def test_so_many_an_hour_come_in_and_the_others_wait_their_turn():
    """They come ten minutes after each other, from 0:10 on, and two an hour are let in: the first
    at once, each other half an hour after the one before, and events before their turn are none."""
    ways = (Path("", event="visited"), Path(""))
    itinerary = built(WaitForStep("", Span(3, "day"), ways))
    visits = rows([[25], [25], [], [], [], [], [], [], [], []])
    found = told(itinerary, gap=30.0, pasts={"visited": visits})
    came = {place: way[0].at for place, way in found.ways.items()}
    assert came == {place: 10.0 + 30 * place for place in range(10)}
    # The first is in at 0:10 and visits at 0:35; the second visits at 0:45, in since 0:40.
    assert found.took[itinerary.steps[0].paths[0].id].middle == 2
    slow = told(itinerary, gap=2 * 24 * 60.0, pasts={"visited": visits})
    assert slow.took[itinerary.steps[0].paths[0].id].middle == 1
    # In 190 days all ten are let in; with thirty days between them only seven.
    assert slow.came["s1"].middle == 10
    months = told(itinerary, gap=30 * 24 * 60.0)
    assert months.came["s1"].middle == 7 and months.inside.middle == 3


def test_a_door_that_is_free_again_lets_the_next_one_in_at_once():
    starts = Starts(
        *(np.zeros(4, np.int64) for _ in range(2)),
        np.array([0, 0, 0, 1]),
        np.array([0.0, 5, 100, 5]),
    )
    assert their_turns(starts, 30.0).tolist() == [0.0, 30.0, 100.0, 5.0]
    assert their_turns(starts, 0.0) is starts.at


def test_the_author_may_say_how_many_react():
    itinerary = built(
        WaitForStep("", Span(3, "day"), (Path("", event="visited"), Path(""))),
    )
    path = itinerary.steps[0].paths[0].id
    assert told(itinerary, shares={path: 1.0}).took[path].middle == 10
    assert told(itinerary, shares={path: 0.0}).took[path].middle == 0


def test_a_share_of_reactions_is_of_those_who_got_it_whatever_people_did_before():
    """Nobody reacted before; the author has all react: nine do, who got it, and not the tenth."""
    ways = (Path("", reaction="opened"), Path(""))
    itinerary = built(MessageStep("", 1), WaitForStep("", Span(3, "day"), ways))
    opened, none = itinerary.steps[1].paths
    found = told(itinerary, shares={opened.id: 1.0})
    assert (found.took[opened.id].middle, found.took[none.id].middle) == (9, 1)


#: A message, what is waited for after it, whether they clicked later, and a branch.
QUESTIONS = (
    MessageStep("", 1),
    WaitForStep(
        "", Span(4, "day"), (Path("", reaction="opened"), Path("", event="visited"), Path(""))
    ),
    WaitForStep("", Span(2, "day"), (Path("", reaction="opened"), Path(""))),
    BranchStep("", (Path("", who=Who(1)), Path(""))),
)


def test_the_author_answers_for_one_person_and_nobody_else():
    """Nobody reacts, and person 7 is in no segment. The author has person 7 visit, then be in the
    segment: what is waited for happens in the middle of its four days, and the rest follows."""
    itinerary = built(*QUESTIONS)
    first, _, branch = itinerary.steps[1:]
    visited, inside = first.paths[1].id, branch.paths[0].id
    plain = told(itinerary)
    found = told(itinerary, answers={6: {first.id: visited, branch.id: inside}})
    came = 70.0
    way = [(one.step, one.at, one.because) for one in found.ways[6]]
    day = 24 * 60.0
    assert way[2:] == [
        (itinerary.steps[2].id, came + 2 * day, visited),
        (branch.id, came + 4 * day, itinerary.steps[2].paths[1].id),
        (END, came + 4 * day, inside),
    ]
    others = {place: way for place, way in plain.ways.items() if place != 6}
    assert {place: found.ways[place] for place in others} == others


def test_who_is_answered_for_has_done_what_was_answered():
    """Opened by answer, it is opened for the next question, too, at once; “none of these” comes
    when the time is up, also for somebody who would have opened it."""
    itinerary = built(*QUESTIONS)
    first, second = itinerary.steps[1:3]
    opened, none = first.paths[0].id, first.paths[-1].id
    found = told(itinerary, answers={6: {first.id: opened}})
    assert [one.because for one in found.ways[6]][2:4] == [opened, second.paths[0].id]
    assert found.ways[6][2].at == found.ways[6][3].at == 70.0 + 2 * 24 * 60
    found = told(itinerary, reacted=[5.0, np.inf, np.inf, np.inf], answers={6: {first.id: none}})
    assert (found.ways[6][2].because, found.ways[6][2].at) == (none, 70.0 + 4 * 24 * 60)
    # One who would have opened it does so when they would have.
    found = told(itinerary, reacted=[5.0, np.inf, np.inf, np.inf], answers={6: {first.id: opened}})
    assert found.ways[6][2].at == 75.0


def test_the_goal_counts_once_within_its_days():
    itinerary = built(WaitStep("", Span(30, "day")))
    visits = rows([[100], [20 * 24 * 60], [], [50, 60], [], [], [], [], [], []])
    found = told(itinerary, pasts={"visited": visits}, goal=Goal("visited", 14))
    assert found.goal.middle == 2
    ends = told(itinerary, pasts={"visited": visits}, goal=Goal("visited", 14, True))
    assert ends.left["goal"].middle == 2 and ends.finished.middle == 8


def test_shares_of_a_split_are_those_of_the_journey_itself():
    itinerary = built(SplitStep("", (Path("", percent=30), Path("", percent=70))))
    step = itinerary.steps[0]
    found = told(itinerary)
    chosen = [path_by_chance(step, contact, "x") for contact in range(1, 11)]
    assert set(chosen) == {path.id for path in step.paths}
    for path in step.paths:
        assert found.took[path.id].middle == chosen.count(path.id)


def test_ranges_hold_nine_plays_of_ten():
    """Of 500 people in each of 400 plays, each visits by chance of 0.2: nine plays of ten lie
    between 85 and 115 (binomial distribution with 500 tries: 5 % below 85, 5 % above 115)."""
    itinerary = built(
        WaitForStep("", Span(3, "day"), (Path("", event="visited"), Path(""))),
    )
    path = itinerary.steps[0].paths[0].id
    plays, people = 400, 500
    one = world(itinerary, people, {}, np.array([[np.inf] * len(REACTIONS)]))
    starts = Starts(
        np.tile(np.arange(people), plays),
        np.tile(np.arange(people), plays),
        np.repeat(np.arange(plays), people),
        np.zeros(plays * people),
    )
    asked = dataclasses.replace(one, starts=starts, plays=plays, shares={path: 0.2})
    found = rehearse(flatten(itinerary), first_steps(itinerary)[""], asked).took[path]
    assert found.low == pytest.approx(85, abs=3)
    assert found.middle == pytest.approx(100, abs=2)
    assert found.high == pytest.approx(115, abs=3)
