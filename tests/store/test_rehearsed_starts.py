"""Who comes into a rehearsed journey, when, and how many there will be."""

import datetime as dt
import math

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    ExitRule,
    Goal,
    Span,
    Start,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, queries
from meadowrun.journeys.imagining import Asked
from meadowrun.people.models import Field
from tests.conftest import NOW
from tests.store.people import IDA
from tests.store.rehearsing import (
    EVERYONE,
    PEOPLE,
    WELCOME,
    first_of,
    happens,
    rehearsed,
    world_to_rehearse,
    written,
)


@pytest.fixture
def world(database, settings, job_context, keeper):
    return world_to_rehearse(database)


def test_certain_people_all_at_once(database, world):
    written(database, world, *WELCOME, goal=Goal("visited", 14))
    # Within three days of such a moment 28 days ago five visited, two a week after.
    happens(database, "visited", *[(one, 26) for one in range(1, 6)], (6, 20), (7, 20))
    found = rehearsed(database, world, Asked(28, EVERYONE)).found
    steps = first_of(database, world)
    assert found.entered.middle == PEOPLE
    assert found.sent[steps[0].id].middle == PEOPLE - 1
    assert found.kept_back[steps[0].id]["no_consent"].middle == 1
    visited, none = steps[1].paths
    assert (found.took[visited.id].middle, found.took[none.id].middle) == (5, 15)
    assert found.goal.middle == 7
    assert found.finished.middle == PEOPLE


def test_people_do_as_they_did_once_or_another_time(database, world):
    """Those who are there for three months did something else in each four weeks of them: five,
    none and ten of them visited soon after. Five as a rule, more or fewer in some plays."""
    with database.session() as session:
        before = {"then": NOW - dt.timedelta(days=100)}
        session.execute(sa.text("UPDATE contacts SET created_at = :then"), before)
    written(database, world, *WELCOME)
    soon = [(one, 26) for one in range(1, 6)] + [(one, 82) for one in range(6, 16)]
    happens(database, "visited", *soon)
    found = rehearsed(database, world, Asked(28, EVERYONE)).found
    visited = found.took[first_of(database, world)[1].paths[0].id]
    assert 4 <= visited.middle <= 6
    assert visited.low <= 3 and visited.high >= 7


def test_people_come_as_they_came_before(database, world):
    written(database, world, *WELCOME)
    # Four a day for five weeks, by turns; nobody twice in ten days.
    happens(
        database,
        "ticket_bought",
        *[((day * 4 + one) % PEOPLE + 1, day + 0.1) for day in range(1, 36) for one in range(4)],
    )
    written(database, world, again="any")
    found = rehearsed(database, world, Asked(14)).found
    # About 56 in a fortnight; chance moves nine plays of ten by some fifteen.
    assert 45 <= found.entered.middle <= 60
    assert found.entered.low < found.entered.middle < found.entered.high


def test_those_of_the_days_before_come_in_when_it_starts(database, world):
    """Numbers 1 to 3 bought within the last four days, number 4 before that; nobody comes in twice
    within a month. Two a week bought besides, each another time."""
    start = Start("event", event="ticket_bought", back=4)
    written(database, world, *WELCOME, start=start)
    others = [(5 + (7 * week) % 16, 7 * week + 6) for week in range(5)]
    happens(database, "ticket_bought", (1, 1), (2, 2), (3, 3), (4, 5), *others)
    rehearsed_now = rehearsed(database, world, Asked(7))
    found = rehearsed_now.found
    assert found.entered.low >= 3, "those three come in for sure"
    assert found.entered.middle <= 6
    assert rehearsed_now.people.endswith("after the 3 of the days before")
    first = {rehearsed_now.contacts[place] for place, way in found.ways.items() if place < 3}
    assert first == {1, 2, 3}


def test_more_come_where_more_came_a_year_ago(database, world):
    """Sixteen a day in one half of the year and four in the other, and now it rises: 8.2 a day came
    in the last five weeks, 10.7 a day will in the next two, which are 150 and not 115."""

    def came(days_ago):
        return round(10 - 6 * math.sin(2 * math.pi * days_ago / 364))

    written(database, world, *WELCOME, again="any")
    happens(
        database,
        "ticket_bought",
        *[
            (one % PEOPLE + 1, day + 0.001 * one)
            for day in range(1, 440)
            for one in range(came(day))
        ],
    )
    found = rehearsed(database, world, Asked(14))
    assert 135 <= found.found.entered.middle <= 165
    assert "more, judging by the same weeks a year ago" in found.people


def test_whoever_comes_again_is_refused_as_long_as_the_journey_remembers(database, world):
    """Ten people buy every other day. A journey that takes each in once has taken in all of them on
    the first two days; one that takes them again after a day takes in five a day."""
    written(database, world, *WELCOME)
    every_other = [
        (one, day + 0.1) for day in range(1, 60) for one in range(1, 11) if (day + one) % 2 == 0
    ]
    happens(database, "ticket_bought", *every_other)
    once = rehearsed(database, world, Asked(14)).found.entered
    assert 4 <= once.low <= once.high <= 17
    with clock.at(NOW), database.session() as session:
        journey = queries.journey(session, world)
        itinerary = queries.draft(session, journey)

        def oftener(_):
            return edit.with_again(itinerary, "after", 1)

        actions.write(session, IDA, NOW, journey, journey.version, "wrote", oftener)
    often = rehearsed(database, world, Asked(14)).found.entered
    assert 60 <= often.middle <= 80
    # It runs for a month already: whoever still comes was in it before.
    with clock.at(NOW), database.session() as session:
        journey = queries.journey(session, world)
        actions.write(session, IDA, NOW, journey, journey.version, "wrote", lambda _: itinerary)
        journey.started_at = NOW - dt.timedelta(days=30)
    assert rehearsed(database, world, Asked(14)).found.entered.high == 0


def with_renewals(database):
    """Number 1 renews on 22 November, and each two days after the one before."""
    with database.session() as session:
        session.add(
            Field(owner="contact", key="renewal", label="renewal", type="date", created_at=NOW)
        )
        session.execute(
            sa.text(
                "UPDATE contacts SET attributes = jsonb_build_object('renewal', "
                "CAST(CAST('2026-11-20' AS date) + CAST(id AS int) * 2 AS text))"
            )
        )


def test_who_becomes_one_of_those_that_a_rule_takes_out(database, world):
    """All come in on 23 November and wait three weeks. Numbers 2 to 5 renew within a week then, and
    leave at once; numbers 6 to 15 as their week comes; the first is past, the others later."""
    with_renewals(database)
    soon = {"id": "r", "kind": "field", "field": "renewal", "op": "in_next", "value": 7}
    rule = ExitRule("x1", who=Who(lines=(soon,)))
    written(database, world, WaitStep("", Span(3, "week")), exits=(rule,))
    found = rehearsed(database, world, Asked(28, EVERYONE)).found
    assert found.left["x1"].middle == 14 and found.finished.middle == 6
    # The sixth renews on 2 December: a week before it is day 2 after 23 November.
    stayed = {place: way[-1].at - way[0].at for place, way in found.ways.items()}
    assert sorted(round(one / (24 * 60), 2) for one in stayed.values()) == [
        *[0.0] * 4,
        *[float(day) for day in range(2, 22, 2)],
        *[21.0] * 6,
    ]


def test_dates_bring_in_those_who_have_one(database, world):
    with_renewals(database)
    start = Start("date", date="renewal", before=3, at=9 * 60)
    written(database, world, *WELCOME, start=start)
    found = rehearsed(database, world, Asked(14)).found
    # Renewals of the 27th November to the 10th December, three days before each: numbers 4 to 10.
    assert found.entered.middle == 7 and found.entered.low == found.entered.high


def test_a_rhythm_brings_the_same_people_in_as_often_as_they_may(database, world):
    """Two Wednesdays lie within 14 days of Monday 23 November; five people are meant."""
    start = Start("rhythm", who=EVERYONE, rhythm="FREQ=WEEKLY;BYDAY=WE", first="2026-11-01")
    written(database, world, *WELCOME, start=start, again="any")
    twice = rehearsed(database, world, Asked(14)).found.entered
    written(database, world, *WELCOME, start=start)
    once = rehearsed(database, world, Asked(14)).found.entered
    assert (once.middle, twice.middle) == (PEOPLE, 2 * PEOPLE)
    assert once.low == once.high, "everybody is everybody in two days as well"


def test_a_rhythm_takes_in_those_who_are_new_by_then(database, world):
    """Two of twenty were added in each of the last ten weeks, and everybody comes in once: those
    who are there tomorrow, and two a week more, four in a fortnight, give or take √4."""
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET created_at = :now - id * interval '83 hours'"),
            {"now": NOW},
        )
    start = Start("rhythm", who=EVERYONE, rhythm="FREQ=DAILY", first="2026-11-01")
    written(database, world, *WELCOME, start=start)
    once = rehearsed(database, world, Asked(14)).found.entered
    assert once.low >= PEOPLE and 23 <= once.middle <= 25 and once.high <= 28


def test_a_rhythm_takes_in_those_who_become_such_people(database, world):
    """Two others bought in each week: whoever comes in once does so in the week in which they did,
    six now and six in each of the three weeks after this one."""
    bought = {"id": "b", "kind": "event", "event": "ticket_bought", "span": {"last": 7}}
    who = Who(lines=(bought,))
    start = Start("rhythm", who=who, rhythm="FREQ=WEEKLY;BYDAY=MO", first="2026-11-01", at=18 * 60)
    written(database, world, *WELCOME, start=start)
    happens(
        database,
        "ticket_bought",
        *[(1 + (6 * week + one) % PEOPLE, 7 * week + 3) for week in range(6) for one in range(6)],
    )
    once = rehearsed(database, world, Asked(27)).found.entered
    assert 21 <= once.middle <= 27


def test_how_many_a_rhythm_finds_strays_as_it_did(database, world):
    """Who bought within a week: eight or twelve by turns, ten now."""
    bought = {"id": "b", "kind": "event", "event": "ticket_bought", "span": {"last": 7}}
    who = Who(lines=(bought,))
    start = Start("rhythm", who=who, rhythm="FREQ=WEEKLY;BYDAY=WE", first="2026-11-01")
    written(database, world, *WELCOME, start=start, again="any")
    weeks = [10, 12, 8, 12, 8, 12]
    happens(
        database,
        "ticket_bought",
        *[(one + 1, 7 * week + 2) for week, many in enumerate(weeks) for one in range(many)],
    )
    entered = rehearsed(database, world, Asked(7)).found.entered
    assert 8 <= entered.middle <= 12
    assert entered.low < 9 and entered.high > 11


def test_one_of_several_starts_is_rehearsed(database, world):
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, world)
        added = Start("rhythm", who=EVERYONE, rhythm="FREQ=DAILY", first="2026-11-01")
        actions.write(
            session, IDA, NOW, found, found.version, "w", lambda one: edit.add_start(one, added)
        )
        other = queries.draft(session, found).starts[1].id
    assert rehearsed(database, world, Asked(14)).people == f"{PEOPLE} people, all at once"
    by_days = rehearsed(database, world, Asked(14, start=other))
    assert by_days.people == f"{PEOPLE} people on each day"
