"""Rehearsals on real people: who comes in, what verdicts, limits and planned sends do, and that
nothing leaves and nothing is written."""

import dataclasses
import datetime as dt
import html
import math
import re
import zoneinfo

import numpy as np
import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.imagined import Range
from meadowrun.core.journeys.steps import (
    Door,
    ExitRule,
    ExitStep,
    Goal,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    TaskStep,
    WaitForStep,
    WaitStep,
    Who,
    numbered,
)
from meadowrun.journeys import actions, queries
from meadowrun.journeys.imagining import Asked, imagine
from meadowrun.journeys.models import Journey, JourneyEntry
from meadowrun.journeys.rehearsal_findings import Deciding, splits
from meadowrun.messages.models import Message
from meadowrun.outgoing.models import MessageLimit
from meadowrun.people.models import Field
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, started_by
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.sending import segment
from tests.store.web import sign_in, words

LONDON = zoneinfo.ZoneInfo("Europe/London")
PEOPLE = 20
EVERYONE = Who(lines=({"id": "e", "kind": "field", "field": "email", "op": "not_blank"},))
WELCOME = (
    MessageStep("", 1),
    WaitForStep("", Span(3, "day"), (Path("", event="visited"), Path(""))),
    WaitStep("", Span(1, "day")),
)


@pytest.fixture
def world(database, settings, job_context, keeper):
    """Twenty people, one of whom said no to email, a message and a journey of a campaign."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        session.execute(sa.text("UPDATE contacts SET timezone = 'Europe/London'"))
        session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id = 3"))
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        session.execute(sa.text("UPDATE messages SET name = 'Welcome'"))
        campaign = session.get_one(Campaign, send.campaign_id)
        return actions.create(session, IDA, NOW, campaign, "First weeks").id


BOUGHT = Start("event", "ticket_bought")


def written(database, ident, *steps, start=BOUGHT, **more):
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, ident)
        message = session.scalar(sa.select(Message.id))

        def built(itinerary):
            for step in steps:
                itinerary = edit.add(itinerary, step)
            itinerary = started_by(itinerary, start, more.get("again", "once"), 30)
            itinerary = dataclasses.replace(itinerary, exits=more.get("exits", ()))
            return edit.with_goal(itinerary, more.get("goal"))

        assert message == 1
        actions.write(session, IDA, NOW, found, found.version, "wrote", built)


def happens(database, kind, *when):
    """Events of contacts, so many days ago each."""
    with clock.at(NOW), database.session() as session:
        rows = [
            {
                "event": kind,
                "contact": contact,
                "at": (NOW - dt.timedelta(days=days)).isoformat(),
            }
            for contact, days in when
        ]
        for first in range(0, len(rows), 1000):
            take_events(session, NOW, "t", rows[first : first + 1000])


USUAL = Asked()


def rehearsed(database, ident, asked=USUAL, now=NOW):
    with database.session() as session:
        moment = Moment(session, dictionary(session), now, LONDON)
        journey = queries.journey(session, ident)
        return imagine(moment, journey, queries.draft(session, journey), asked)


def first_of(database, ident):
    with database.session() as session:
        return queries.draft(session, queries.journey(session, ident)).steps


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
    assert "more going by the same weeks a year ago" in found.people


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


def test_limits_and_planned_sends_make_people_wait(database, world):
    written(database, world, MessageStep("", 1), start=Start("everyone", who=EVERYONE))
    with clock.at(NOW), database.session() as session:
        session.add(
            MessageLimit(
                channel="email", most=1, length=1, unit="week", changed_by="Ida", changed_at=NOW
            )
        )
        made = segment(session, [dict(EVERYONE.lines[0])])
        send = ready_send(session, NOW, {"in": [{"segment": made.id}], "out": []})
        session.flush()
        session.execute(
            sa.text(
                "UPDATE sends SET state = 'planned', leaves_at = :now, begins_at = :now, "
                "zone = 'Europe/London' WHERE id = :id"
            ),
            {"now": NOW, "id": send.id},
        )
    found = rehearsed(database, world).found
    step = first_of(database, world)[0].id
    assert found.delayed.middle == PEOPLE - 1
    assert found.sent[step].middle == PEOPLE - 1
    # NOW is a Monday: the week after begins seven days later.
    assert found.a_day["email"][7] == PEOPLE - 1


def test_other_journeys_go_on_writing_to_the_same_people(database, world):
    """Two people had a message of another journey the day before. It is imagined to write to them
    again each week: seven days later, one hour before this journey would."""
    with clock.at(NOW), database.session() as session:
        campaign = session.scalars(sa.select(Campaign)).first()
        other = actions.create(session, IDA, NOW, campaign, "Another").id
        session.add(
            MessageLimit(
                channel="email", most=1, length=3, unit="day", changed_by="Ida", changed_at=NOW
            )
        )
    written(database, other, MessageStep("", 1))
    with clock.at(NOW), database.session() as session:
        running = queries.journey(session, other)
        actions.start(session, IDA, NOW, running, running.version)
        actions.bring_in(session, IDA, NOW, running, [1, 2, 3])
    advance(database, NOW)
    waits = WaitStep("", Span(6 * 24 + 1, "hour"))
    message = MessageStep("", 1, hold=168)
    written(database, world, waits, message, start=Start("everyone", who=EVERYONE))
    found = rehearsed(database, world, now=NOW + dt.timedelta(days=1))
    # The third of them said no to email. In 28 days it comes round four times.
    assert found.of_journeys == 2 * 4
    step = first_of(database, world)[1].id
    assert found.found.delayed.middle == 2
    assert found.found.sent[step].middle == PEOPLE - 1
    with clock.at(NOW), database.session() as session:
        # What winds down takes nobody in any more.
        actions.wind_down(session, IDA, NOW, queries.journey(session, other))
    found = rehearsed(database, world, now=NOW + dt.timedelta(days=1))
    assert found.of_journeys == 0
    assert found.found.delayed.middle == 0


def test_tasks_crowding_and_splits_are_told(web, database, world):
    """All come in at once: two emails on the first day, a third to those who take the first path of
    a split; a task for each of the others."""
    halves = SplitStep(
        "",
        (
            Path("", (MessageStep("", 1, refused="go_on"),), percent=50),
            Path("", (TaskStep("", "call", "Ask how it was"),), percent=50),
        ),
    )
    two = MessageStep("", 1), MessageStep("", 1)
    start = Start("everyone", who=EVERYONE)
    written(database, world, *two, halves, start=start, goal=Goal("ticket_bought", 30))
    found = rehearsed(database, world).found
    split = first_of(database, world)[2]
    first, second = (found.took[path.id].middle for path in split.paths)
    # The third of them said no to email.
    assert found.in_a_week[0].middle == found.in_a_week[1].middle == PEOPLE - 1
    with database.session() as session:
        salt = queries.journey(session, world).salt
    chosen = [path_by_chance(split, contact, salt) for contact in range(1, PEOPLE + 1)]
    assert first == chosen.count(split.paths[0].id) and first + second == PEOPLE
    refused = chosen[2] == split.paths[0].id
    assert found.in_a_week[2].middle == first - refused and len(found.in_a_week) == 3
    assert found.tasks.sum() == second == found.tasks[0]
    assert found.chose[split.paths[0].id][0] == first
    shown = words(web.get(f"/journeys/{world}/rehearsal").text)
    assert f"Colleagues get {second:.0f} tasks , at most {second:.0f} on one day: day 0." in shown
    assert "Nobody gets more than 3 messages within a week" in shown
    # Nobody bought anything after such a start: of twenty people only a large difference shows.
    assert "too few people come in 28 days. With them only a difference of" in shown


def test_a_split_needs_as_many_days_as_it_takes_to_show_five_in_a_hundred(database, world):
    """A tenth reach the goal. By the formula of sample sizes two paths of 500 people show 5.94 in a
    hundred more, two of 1,000 show 4.07: these have come on the third day, two after the first."""
    halves = SplitStep("", (Path("", percent=50), Path("", percent=50)))
    start = Start("everyone", who=EVERYONE)
    written(database, world, halves, start=start, goal=Goal("ticket_bought", 30))
    rehearsal = rehearsed(database, world)
    with database.session() as session:
        itinerary = queries.draft(session, queries.journey(session, world))
        names = queries.names(session)
    first, second = itinerary.steps[0].paths

    def told(*people):
        each = np.array([0.0] * rehearsal.first_day + list(people))
        found = dataclasses.replace(
            rehearsal.found,
            entered=Range(2000, 2000, 2000),
            goal=Range(200, 200, 200),
            chose={first.id: each, second.id: each + 3},
        )
        changed = dataclasses.replace(rehearsal, found=found)
        return splits(changed, numbered(itinerary), itinerary, names)[0]

    assert told(100, 500, 1000).days == 2
    assert told(100, 500, 1000).least == pytest.approx(0.0407, abs=0.0002)
    assert told(100, 500).days is None
    assert told(100, 500).least == pytest.approx(0.0593, abs=0.0002)
    assert told(0, 0) == Deciding("1 · Random split by chance", None, None)


def counts(database):
    with database.session() as session:
        return [
            session.execute(sa.text(f"SELECT count(*) FROM {table}")).scalar()
            for table in ("deliveries", "dispatches", "journey_entries", "journey_moves")
        ]


@pytest.fixture
def web(client, world, still):
    sign_in(client)
    return client


def test_the_page_tells_it_and_writes_nothing(web, database, world):
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    before = counts(database)
    shown = web.get(f"/journeys/{world}/rehearsal")
    assert shown.status_code == 200
    for said in ("imagined · nothing leaves", "20 people, all at once", "19 sent", "First1 Last"):
        assert said in shown.text
    assert counts(database) == before
    path = first_of(database, world)[1].paths[0].id
    all_of_them = web.get(f"/journeys/{world}/rehearsal?share-{path}=100&days=7").text
    assert "3a" not in all_of_them and "Never used" in all_of_them
    followed = web.get(f"/journeys/{world}/rehearsal?follow=2").text
    assert "not sent: no consent for email" in followed


def test_who_finds_it_full_is_said(web, database, world):
    """Twenty come at once, and five may be inside."""
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, world)
        door = Door(most_inside=5)
        actions.write(
            session, IDA, NOW, found, found.version, "wrote", lambda i: edit.with_door(i, door)
        )
    shown = words(web.get(f"/journeys/{world}/rehearsal").text)
    print("ZZ", shown)
    assert "5 come in" in shown and "15 do not come in, since 5 are inside then" in shown


def test_who_wants_less_and_who_is_kept_out(database, world):
    """Contact 5 wants one message a week; contact 7 is inside another journey that keeps people
    out of this one."""
    written(
        database,
        world,
        *(MessageStep("", 1, 24 * 30), MessageStep("", 1, 24 * 30)),
        start=Start("everyone", who=EVERYONE),
    )
    with clock.at(NOW), database.session() as session:
        session.execute(sa.text("UPDATE contacts SET most_a_week = 1 WHERE id = 5"))
    found = rehearsed(database, world).found
    assert (found.entered.middle, found.delayed.middle) == (PEOPLE, 1)
    with clock.at(NOW), database.session() as session:
        other = session.get_one(Journey, world)
        campaign = session.get_one(Campaign, other.campaign_id)
        elsewhere = actions.create(session, IDA, NOW, campaign, "Elsewhere")
        session.add(
            JourneyEntry(
                journey_id=elsewhere.id,
                contact_id=7,
                began_at=NOW,
                step="s1",
                arrived_at=NOW,
                phase="waiting",
            )
        )
        journey = session.get_one(Journey, world)
        actions.write(
            session,
            IDA,
            NOW,
            journey,
            journey.version,
            "kept people out",
            lambda one: edit.with_door(one, Door(not_while=(elsewhere.id,))),
        )
    assert rehearsed(database, world).found.entered.middle == PEOPLE - 1


def test_one_person_is_followed_with_answers_of_the_author(web, database, world):
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    step = first_of(database, world)[1]
    page = f"/journeys/{world}/rehearsal?days=14&follow=5"
    plain = web.get(page).text
    assert words(plain).count("instead: if they visited") == 1
    link = html.unescape(re.search(r'href="([^"]*answer-[^"]*)#follow"', plain).group(1))
    assert f"answer-{step.id}={step.paths[0].id}" in link
    answered = web.get(link).text
    assert "if they visited (your answer) → 3 Wait: 1 day" in words(answered)
    assert "answered by you" in words(answered)
    # No number is counted with the answer.
    assert told_of(plain) == told_of(answered)
    # Somebody else is followed as they would go.
    others = re.findall(r'href="([^"]*follow=\d+)"[^>]*>\s*First', answered)
    assert others
    # What no step asks is no answer.
    assert "answered by you" not in words(web.get(f"{page}&answer-{step.id}=s99").text)


def told_of(page):
    """What the margin says of everybody."""
    return re.search(r"Everyone accounted for.*?Follow one person", words(page)).group()


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        ("days=9", "Choose for how many days."),
        ("who=the+moon+people", "“the moon people” was not understood."),
        ("share-s3=101", "Give shares from 0 to 100 percent."),
        ("who=town+is+Nowhere", "Nobody is one of these people now."),
    ],
)
def test_what_cannot_be_rehearsed_is_said(web, database, world, asked, said):
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    shown = web.get(f"/journeys/{world}/rehearsal?{asked}")
    assert shown.status_code == 200 and said in shown.text


def test_what_was_asked_stays_in_the_form_where_it_is_refused(web, database, world):
    written(database, world, *WELCOME, start=Start("everyone", who=EVERYONE))
    path = first_of(database, world)[1].paths[0].id
    asked = f"days=7&who=the+moon+people&share-{path}=40"
    shown = web.get(f"/journeys/{world}/rehearsal?{asked}").text
    assert 'value="the moon people"' in shown and 'value="40"' in shown
    assert '<option value="7" selected>' in shown


def test_a_journey_that_nothing_starts_can_be_rehearsed_with_people_of_ones_choice(
    web, database, world
):
    assert "There is no step yet." in web.get(f"/journeys/{world}/rehearsal").text
    written(database, world, *WELCOME, start=None)
    assert "Choose who comes in" in web.get(f"/journeys/{world}/rehearsal").text
    with database.session() as session:
        made = segment(session, [dict(EVERYONE.lines[0])]).id
    chosen = web.get(f"/journeys/{world}/rehearsal?segment={made}").text
    assert "20 people, all at once" in chosen


def beside_rows(page):
    """What stands beside the edition: each line with its two numbers."""
    table = page[page.index("Beside the edition") :]
    rows = re.findall(r"<tr>\s*<td>(.*?)</td>(.*?)</tr>", table, re.S)
    return {
        " ".join(what.split()): [" ".join(words(one).split()) for one in cells.split("</td>")[:2]]
        for what, cells in rows
    }


def test_what_is_written_now_stands_beside_what_people_walk(web, database, world):
    """Edition 1 sends an email; the draft waits a day before, and has them leave behind it."""
    written(database, world, MessageStep("", 1), start=Start("everyone", who=EVERYONE))
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, world)
        actions.start(session, IDA, NOW, found, found.version)
    alone = web.get(f"/journeys/{world}/rehearsal").text
    assert "Beside the edition" not in alone and 'name="beside"' not in alone

    def changed(itinerary):
        itinerary = edit.add(itinerary, WaitStep("", Span(1, "day")), place=0)
        return edit.add(itinerary, ExitStep(""))

    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, world)
        actions.write(session, IDA, NOW, found, found.version, "changed", changed)
    assert 'name="beside"' in web.get(f"/journeys/{world}/rehearsal").text
    rows = beside_rows(web.get(f"/journeys/{world}/rehearsal?beside=yes&days=7").text)
    assert rows["Come in"] == ["20", "20"]
    assert rows["Messages: email"] == ["19", "19"]
    assert rows["Finished"] == ["0", "20"] and rows["Left before the end"] == ["20", "0"]
    steps = {what: numbers for what, numbers in rows.items() if " · " in what}
    assert list(steps.values()) == [["20", "no such step"], ["19", "19"], ["20", "no such step"]]
