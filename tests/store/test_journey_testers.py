"""Testers of a journey: they walk it faster, whatever brings them in, and count nowhere."""

import datetime as dt
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Invalid
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    Goal,
    JumpStep,
    MessageStep,
    Path,
    Span,
    Start,
    TaskStep,
    WaitForStep,
    WaitStep,
)
from meadowrun.journeys import actions, figures, queries, safety, testers
from meadowrun.journeys.models import Journey
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.starting import (
    DAY,
    HOUR,
    LONG,
    MINUTE,
    entry,
    happens,
    inside,
    moves,
    running,
    stand,
)
from tests.store.writing_journeys import ready, welcome

VISITED = Start("event", "visited")


def try_out(database, ident, contact, most_wait=60):
    with database.session() as session:
        journey = session.get_one(Journey, ident)
        testers.make(session, IDA, NOW, journey, contact, most_wait)


def value(database, statement, **values):
    with database.session() as session:
        return session.execute(sa.text(statement), values).scalar()


def test_a_tester_waits_a_minute_where_others_wait_weeks(database, given):
    ident = running(database, given, VISITED, LONG)
    try_out(database, ident, 1)
    happens(database, "visited", NOW + HOUR, 1, 2)
    advance(database, NOW + HOUR + MINUTE)
    assert entry(database, ident, 1).state == "finished"
    assert moves(database, ident, 1)[-1] == ("time", NOW + HOUR + MINUTE)
    assert entry(database, ident, 2).due == NOW + HOUR + dt.timedelta(weeks=9)


def test_what_is_waited_for_still_counts_within_the_minute(database, given):
    ident = running(database, given, VISITED, _waits_for("ticket_bought"))
    for contact in (1, 2):
        try_out(database, ident, contact)
    happens(database, "visited", NOW + HOUR, 1, 2, 3)
    happens(database, "ticket_bought", NOW + HOUR + dt.timedelta(seconds=30), 1)
    happens(database, "ticket_bought", NOW + HOUR + 2 * MINUTE, 2, 3)
    paths = {contact: moves(database, ident, contact)[-1] for contact in (1, 2, 3)}
    # The paths in order bear the numbers after that of the step.
    bought, never = "s2", "s3"
    assert paths == {
        1: (bought, NOW + HOUR + dt.timedelta(seconds=30)),
        2: (never, NOW + HOUR + MINUTE),
        3: (bought, NOW + HOUR + 2 * MINUTE),
    }


def _waits_for(event):
    paths = (Path("bought", event=event), Path("never"))
    return WaitForStep("", Span(5, "day"), paths)


def test_no_number_takes_testers_in(database, given):
    """A message, a task and a wait; a goal, with everybody else in the control group."""
    message = MessageStep("", given[1])
    ident = running(database, given, VISITED, message, TaskStep("", "call", "Call them"), LONG)
    with clock.at(NOW), database.session() as session:
        journey = session.get_one(Journey, ident)
        actions.write(session, IDA, NOW, journey, journey.version, "goal", _with_goal)
        actions.start(session, IDA, NOW, journey, journey.version)
    try_out(database, ident, 1, 0)
    happens(database, "visited", NOW + HOUR, 1)
    happens(database, "ticket_bought", NOW + 2 * HOUR, 1)
    assert entry(database, ident, 1).goal_at == NOW + 2 * HOUR
    with database.session() as session:
        numbers = figures.numbers(session, ident)
        went = safety.went(session, session.get_one(Journey, ident), NOW + 2 * HOUR)
        itinerary = queries.walked(session, session.get_one(Journey, ident))
        goals = figures.goal_reached(session, ident, itinerary, NOW + 2 * HOUR)
    assert (numbers.stand.entered, numbers.stand.reached) == (0, 0)
    assert (numbers.here, numbers.went, numbers.did, numbers.tasks) == ({}, {}, {}, {})
    assert (numbers.came, numbers.lanes, numbers.refused) == ({}, {}, {})
    assert (went.sent, went.came) == (0, 0)
    assert goals == {}
    assert inside(database, ident) == []
    # It did happen: the message left, and the colleague is asked, told that it is a test.
    assert value(database, "SELECT count(*) FROM deliveries WHERE outcome = 'delivered'") == 1
    assert value(database, "SELECT subject FROM colleague_tasks") == "Test: Call them"


def _with_goal(itinerary):
    return edit.with_goal(itinerary, Goal("ticket_bought", 14, control=50))


def test_their_messages_go_at_any_hour_and_count_for_no_limit(database, given):
    ident = running(database, given, VISITED, MessageStep("", given[1]))
    with clock.at(NOW), database.session() as session:
        journey = session.get_one(Journey, ident)
        journey.hours = {"from": "02:00", "to": "02:30"}
    try_out(database, ident, 1)
    happens(database, "visited", NOW + HOUR, 1, 2)
    assert entry(database, ident, 1).state == "finished"
    assert entry(database, ident, 2).phase == "sending"
    asked = "SELECT bool_or(counts OR obeys_caps) FROM dispatches WHERE name LIKE '%for testers'"
    assert value(database, asked) is False


def test_a_tester_comes_in_again_and_is_never_refused_by_a_number(database, given):
    """Once per person holds for others; and a tester is inside once at a time, too."""
    ident = running(database, given, VISITED, WaitStep("", Span(1, "hour")))
    try_out(database, ident, 1)
    for minutes in (0, 3, 6):
        at = NOW + HOUR + minutes * MINUTE
        happens(database, "visited", at, 1, 2)
        advance(database, at + 2 * MINUTE)
    with database.session() as session:
        assert len(queries.entries(session, ident, 1)) == 3
        assert len(queries.entries(session, ident, 2)) == 1
    assert stand(database, ident).entered == 1
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {"twice": 2}


def test_a_tester_is_one_in_the_journey_they_go_over_to_as_well(database, given):
    answered = Start("event", "survey_answered")
    other = running(database, given, answered, LONG, name="Another")
    ident = running(database, given, VISITED, JumpStep("", other))
    try_out(database, ident, 1)
    happens(database, "visited", NOW + HOUR, 1, 2)
    advance(database, NOW + HOUR)
    advance(database, NOW + 2 * HOUR)
    assert entry(database, other, 1).state == "finished"
    assert inside(database, other) == [2]
    assert stand(database, other).entered == 1


def test_whoever_is_no_tester_any_more_counts_from_their_next_time(database, given):
    ident = running(database, given, VISITED, LONG, again="any")
    try_out(database, ident, 1)
    happens(database, "visited", NOW + HOUR, 1)
    advance(database, NOW + 2 * HOUR)
    with database.session() as session:
        testers.remove(session, IDA, NOW, session.get_one(Journey, ident), 1)
    happens(database, "visited", NOW + DAY, 1)
    assert stand(database, ident).entered == 1
    assert inside(database, ident) == [1]


@pytest.mark.parametrize("most_wait", [-1, 59, 10**9])
def test_a_wait_that_is_not_offered_is_refused(database, given, most_wait):
    ident = running(database, given, VISITED, LONG)
    with pytest.raises(Invalid):
        try_out(database, ident, 1, most_wait)


def test_testers_are_brought_in_and_shown_on_the_page(client, database, job_context, still):
    web = ready(client, database)
    welcome(web, database)
    assert web.post("/journeys/1/start", data={"version": _version(database)}).status_code == 303
    address = value(database, "SELECT email FROM contacts WHERE id = 1")
    said = {"email": address, "most_wait": "60"}
    assert web.post("/journeys/1/bring-in", data=said).status_code == 303
    page = web.get("/journeys/1").text
    margin = page[page.index("<h2>Testers</h2>") :]
    assert "<h2>Testers</h2>" in web.get("/journeys/1/live").text
    assert re.search(r"/journeys/1/people/1\"", margin)
    assert "<b>0</b> came in" in page
    assert "A tester: in no figure" in web.get("/journeys/1/people/1").text
    assert web.post("/journeys/1/testers/1/remove").status_code == 303
    assert "<h2>Testers</h2>" not in web.get("/journeys/1").text


def _version(database):
    with database.session() as session:
        return session.get_one(Journey, 1).version


def test_testers_are_brought_in_by_the_api(api, database, given):
    with clock.at(NOW):
        ident = running(database, given, VISITED, LONG)
        path = f"/journeys/{ident}/people"
        asked = {"contacts": [1, 2], "tester_wait": 60}
        assert api("post", path, asked) == (200, {"entered": 2})
        assert api("post", path, {"contacts": [3]}) == (200, {"entered": 1})
        assert api("post", path, {"contacts": [4], "tester_wait": 7})[0] in (400, 422)
    assert stand(database, ident).entered == 1
    advance(database, NOW + MINUTE)
    assert entry(database, ident, 1).state == "finished"
    assert inside(database, ident) == [3]
