"""Rehearsals on real people: who comes in, what verdicts, limits and planned sends do, and that
nothing leaves and nothing is written."""

import dataclasses
import datetime as dt
import html
import re

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
    ExitStep,
    Goal,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    TaskStep,
    WaitStep,
    numbered,
)
from meadowrun.journeys import actions, queries
from meadowrun.journeys.models import Journey, JourneyEntry
from meadowrun.journeys.rehearsal_findings import Deciding, splits
from meadowrun.outgoing.models import MessageLimit
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA, ready_send
from tests.store.rehearsing import (
    EVERYONE,
    PEOPLE,
    WELCOME,
    first_of,
    rehearsed,
    world_to_rehearse,
    written,
)
from tests.store.sending import segment
from tests.store.web import sign_in, words


@pytest.fixture
def world(database, settings, job_context, keeper):
    return world_to_rehearse(database)


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
