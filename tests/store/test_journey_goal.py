"""The goal inside the steps as people walk them, and what it brings."""

import dataclasses
import datetime as dt
import decimal

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    ExitRule,
    Goal,
    GoalStep,
    MessageStep,
    Span,
    Start,
    WaitStep,
)
from meadowrun.journeys import actions, figures, queries
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.starting import DAY, HOUR, LONG, MINUTE, did, happens, moves
from tests.store.writing_journeys import begins, draft, post, ready

WAIT = WaitStep("", Span(3, "day"))


def running(database, given, *steps, exits=(), event="ticket_bought", **goal):
    """A journey that a visit starts and whose goal is a ticket, or another event; its number."""
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(queries.Campaign, given[0])
        made = actions.create(session, IDA, NOW, campaign, "A journey")

        def built(itinerary):
            itinerary = dataclasses.replace(
                itinerary,
                starts=(Start("event", "visited", id="start"),),
                goal=Goal(event, 30, **goal),
                exits=exits,
            )
            for step in steps:
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version)
        ident = made.id
    advance(database, NOW)
    return ident


def buys(database, at, contact, **details):
    with clock.at(at), database.session() as session:
        row = {"event": "ticket_bought", "contact": contact, "at": at.isoformat()}
        take_events(session, at, "t", [{**row, "details": details}])
    advance(database, at)


def test_who_buys_goes_on_behind_what_was_to_come(database, given):
    """The second buys after an hour and gets no reminder; the first gets it on the third day."""
    ident = running(database, given, WAIT, MessageStep("", given[1]), GoalStep(""), LONG)
    happens(database, "visited", NOW + MINUTE, 1, 2)
    buys(database, NOW + HOUR, 2)
    advance(database, NOW + 4 * DAY)
    assert [because for because, _ in moves(database, ident, 2)] == ["start", "goal", "done"]
    assert [because for because, _ in moves(database, ident, 1)] == [
        "start",
        "time",
        "sent",
        "done",
    ]
    with database.session() as session:
        got = session.scalars(sa.text("SELECT contact_id FROM deliveries")).all()
    assert got == [1]


def test_what_waits_to_be_sent_is_not_sent_to_who_reaches_it(database, given):
    """The message waits for nine in the morning; the ticket is bought before."""
    at_nine = MessageStep("", given[1], begins=9 * 60, ends=10 * 60)
    ident = running(database, given, at_nine, GoalStep(""), LONG)
    happens(database, "visited", NOW + MINUTE, 1)
    buys(database, NOW + HOUR, 1)
    advance(database, NOW + DAY)
    with database.session() as session:
        assert session.scalars(sa.text("SELECT outcome FROM deliveries")).all() == ["late"]
        found = queries.entry(session, ident, 1)
    assert (found.state, found.goal_at) == ("inside", NOW + HOUR)


def buys_and_tells_late(database):
    """Somebody comes in and buys after a day; on the fourth day we are told."""
    happens(database, "visited", NOW + MINUTE, 1)
    advance(database, NOW + 4 * DAY)
    with clock.at(NOW + 4 * DAY), database.session() as session:
        row = {"event": "ticket_bought", "contact": 1, "at": (NOW + DAY).isoformat()}
        take_events(session, NOW + 4 * DAY, "t", [row])
    advance(database, NOW + 4 * DAY)


def test_what_is_told_late_takes_people_on_from_where_they_are_by_then(database, given):
    ident = running(database, given, WAIT, WAIT, GoalStep(""), LONG)
    buys_and_tells_late(database)
    at = [moment for _, moment in moves(database, ident, 1)]
    assert at == sorted(at) and moves(database, ident, 1)[2][0] == "goal"
    with database.session() as session:
        assert queries.entry(session, ident, 1).goal_at == NOW + DAY


def test_what_is_told_late_takes_people_out_from_where_they_are_by_then(database, given):
    """They go on to the second wait on the third day; on the fourth we hear what they did on the
    first: they leave, and not before they came to where they leave from."""
    out = (ExitRule("x1", "ticket_bought"),)
    ident = running(database, given, WAIT, LONG, exits=out, event="visited")
    buys_and_tells_late(database)
    came = NOW + MINUTE + 3 * DAY
    assert moves(database, ident, 1)[1:] == [("time", came), ("x1", came)]


def test_of_two_tickets_in_one_minute_the_first_is_the_goal(database, given):
    """Told together, the later one first; of many people, so that no order of rows hides it."""
    ident = running(database, given, LONG, amount="amount")
    people = range(1, 6)
    happens(database, "visited", NOW + MINUTE, *people)
    first, second = NOW + HOUR, NOW + HOUR + dt.timedelta(seconds=20)
    with clock.at(second), database.session() as session:
        rows = [
            {
                "event": "ticket_bought",
                "contact": who,
                "at": at.isoformat(),
                "details": {"amount": amount},
            }
            for who in people
            for at, amount in ((second, 99), (first, 10))
        ]
        take_events(session, second, "t", rows)
    advance(database, second)
    with database.session() as session:
        found = [queries.entry(session, ident, who) for who in people]
        assert {(one.goal_at, one.goal_amount) for one in found} == {(first, decimal.Decimal(10))}


def test_what_it_brings_is_counted_once(database, given):
    ident = running(database, given, LONG, amount="amount")
    happens(database, "visited", NOW + MINUTE, 1, 2, 3)
    buys(database, NOW + HOUR, 1, amount=24.5)
    buys(database, NOW + 2 * HOUR, 1, amount=99)
    buys(database, NOW + HOUR, 2, amount=10)
    buys(database, NOW + HOUR, 3, seats=2)
    with database.session() as session:
        stand = figures.numbers(session, ident).stand
    assert (stand.reached, stand.amount) == (3, decimal.Decimal("34.5"))


def test_a_goal_is_written_on_the_page(client, database):
    web = ready(client, database)
    did(
        database,
        """UPDATE event_kinds SET details = '{"price": {"label": "price", "type": "number"}}'
        WHERE key = 'ticket_bought'""",
    )
    web.post(f"/campaigns/{web.campaign}/journeys", data={"name": "Tickets"})
    for text in ("wait 3 days", "email Welcome", "goal"):
        assert post(web, database, "add", text=text).status_code == 303
    begins(web, database, "event:visited", "once")
    assert "Choose the goal below" in web.get("/journeys/1?edit=1").text
    post(web, database, "goal", event="ticket_bought", days="14")
    page = web.get("/journeys/1?edit=1").text
    assert "Choose the goal below" not in page and "the event’s" in page
    post(web, database, "goal", event="ticket_bought", days="14", amount="price")
    assert draft(database).goal == Goal("ticket_bought", 14, amount="price")
