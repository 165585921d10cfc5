"""The door of a journey: so many within an hour, so many inside, and nobody from elsewhere."""

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import Door, Span, Start, WaitStep
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.models import Journey, JourneyEntry
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
    running,
)
from tests.store.writing_journeys import draft, post, ready, welcome

VISITED = Start("event", "visited")


def with_door(database, ident, at=NOW, **door):
    """Has people go on by an edition with another door."""
    with clock.at(at), database.session() as session:
        found = session.get_one(Journey, ident)

        def changed(itinerary):
            return edit.with_door(itinerary, Door(**door))

        actions.write(session, IDA, at, found, found.version, "door", changed)
        actions.start(session, IDA, at, found, found.version)
    advance(database, at)


def turns(database, ident):
    """When each began, in order."""
    with database.session() as session:
        asked = sa.select(JourneyEntry.arrived_at).where(JourneyEntry.journey_id == ident)
        return list(session.scalars(asked.order_by(JourneyEntry.arrived_at)))


def refused(database, ident):
    with database.session() as session:
        return figures.numbers(session, ident).refused


def test_they_begin_one_after_the_other(database, given):
    """Four an hour: one each quarter of an hour, also of those who come by and by."""
    ident = running(database, given, VISITED, LONG)
    with_door(database, ident, hourly=4)
    at = NOW + HOUR
    happens(database, "visited", at, 1, 2, 3)
    happens(database, "visited", at + 5 * MINUTE, 4)
    happens(database, "visited", at + 5 * HOUR, 5)
    quarter = 15 * MINUTE
    late = at + 5 * HOUR
    assert turns(database, ident) == [at, at + quarter, at + 2 * quarter, at + 3 * quarter, late]
    with database.session() as session:
        waiting = figures.at_door(session, ident, at + 20 * MINUTE)
    # The third, the fourth, and of later the fifth.
    assert (waiting.people, waiting.last) == (3, late)


def test_whoever_waits_their_turn_does_nothing_before(database, given):
    ident = running(database, given, VISITED, WaitStep("", Span(1, "minute")))
    with_door(database, ident, hourly=2)
    happens(database, "visited", NOW + HOUR, 1, 2)
    advance(database, NOW + HOUR + 20 * MINUTE)
    states = [entry(database, ident, one).state for one in (1, 2)]
    assert states == ["finished", "inside"]
    advance(database, NOW + HOUR + 31 * MINUTE)
    with database.session() as session:
        last = queries.moves(session, entry(database, ident, 2).id)
    assert [one.at for one in last] == [NOW + HOUR + 30 * MINUTE, NOW + HOUR + 31 * MINUTE]


def test_turns_are_given_anew_with_another_limit_and_after_a_pause(database, given):
    ident = running(database, given, VISITED, LONG)
    with_door(database, ident, hourly=1)
    at = NOW + HOUR
    happens(database, "visited", at, 1, 2, 3, 4)
    later = at + 10 * MINUTE
    with_door(database, ident, later, hourly=6)
    assert turns(database, ident) == [at, later, later + 10 * MINUTE, later + 20 * MINUTE]
    with clock.at(later), database.session() as session:
        actions.pause(session, IDA, later, session.get_one(Journey, ident))
    resumed = later + DAY
    with clock.at(resumed), database.session() as session:
        actions.resume(session, IDA, resumed, session.get_one(Journey, ident))
    # The second had begun before the pause.
    assert turns(database, ident)[2:] == [resumed, resumed + 10 * MINUTE]


def test_whoever_comes_when_it_is_full_does_not_come_in(database, given):
    ident = running(database, given, VISITED, WaitStep("", Span(1, "day")), again="any")
    with_door(database, ident, most_inside=2)
    happens(database, "visited", NOW + HOUR, 1, 2, 3)
    assert inside(database, ident) == [1, 2]
    assert refused(database, ident) == {"full": 1}
    advance(database, NOW + HOUR + DAY)
    happens(database, "visited", NOW + HOUR + DAY + MINUTE, 3, 4, 5)
    assert inside(database, ident) == [3, 4]
    assert refused(database, ident) == {"full": 2}


def test_whoever_is_in_another_journey_does_not_come_in(database, given):
    bought = Start("event", "ticket_bought")
    other = running(database, given, bought, WaitStep("", Span(1, "day")), name="Buyers")
    ident = running(database, given, VISITED, LONG)
    with_door(database, ident, not_while=(other,))
    happens(database, "ticket_bought", NOW + HOUR, 1)
    happens(database, "visited", NOW + 2 * HOUR, 1, 2)
    assert inside(database, ident) == [2]
    assert refused(database, ident) == {"elsewhere": 1}
    advance(database, NOW + HOUR + DAY)
    happens(database, "visited", NOW + 2 * DAY, 1)
    assert inside(database, ident) == [1, 2]


def test_the_door_is_set_on_the_page_and_said_in_words(client, database, job_context, still):
    web = ready(client, database)
    welcome(web, database)
    assert post(web, database, "door", hourly="100", most_inside="").status_code == 303
    assert draft(database).door == Door(100)
    assert "at most 100 people an hour" in web.get("/journeys/1").text
    answer = post(web, database, "door", hourly="many")
    assert answer.status_code == 422
    assert post(web, database, "door", hourly="-3").status_code == 422
