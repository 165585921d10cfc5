"""Several starts of one journey, each counted by itself; days of a rhythm; starts that are added,
changed, taken away and put back while it runs."""

import dataclasses
import datetime as dt

from meadowrun.base import clock, jobs
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    Span,
    Start,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, figures, queries
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import IDA
from tests.store.sending import segment
from tests.store.starting import (
    DAY,
    HOUR,
    IN_FARROW,
    LONG,
    MINUTE,
    RENEWS,
    TO_FARROW,
    did,
    entry,
    happens,
    inside,
    running,
)


def edition(database, ident, change, now):
    """Has people go on by a changed itinerary."""
    with clock.at(now), database.session() as session:
        found = queries.journey(session, ident)
        actions.write(session, IDA, now, found, found.version, "wrote", change)
        actions.start(session, IDA, now, found, found.version)
    advance(database, now)


def by_start(database, ident):
    with database.session() as session:
        return figures.numbers(session, ident).came


def test_each_of_several_starts_brings_people_in_and_is_counted(database, given):
    """An event, a date and a change bring people in by themselves; nobody comes in by two."""
    did(database, RENEWS, id=3, day="2026-11-24")
    ident = running(database, given, Start("event", "visited"), LONG)
    edition(
        database,
        ident,
        lambda one: edit.add_start(
            edit.add_start(one, Start("turns", who=IN_FARROW)), Start("date", date="renewal")
        ),
        NOW,
    )
    happens(database, "visited", NOW + MINUTE, 1, 2)
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id IN (2, 4)")
    advance(database, NOW + HOUR)
    advance(database, dt.datetime(2026, 11, 24, 9, 0, tzinfo=dt.UTC))
    with clock.at(NOW + DAY), database.session() as session:
        found = queries.journey(session, ident)
        actions.bring_in(session, IDA, NOW + DAY, found, [5])
    assert inside(database, ident) == [1, 2, 3, 4, 5]
    with database.session() as session:
        starts = queries.walked(session, queries.journey(session, ident)).starts
        ids = {one.how: one.id for one in starts}
        assert figures.numbers(session, ident).refused == {"inside": 1}
    assert by_start(database, ident) == {
        ids["event"]: 2,
        ids["turns"]: 1,
        ids["date"]: 1,
        "": 1,
    }


def test_a_start_that_is_added_later_takes_in_nobody_of_before(database, given):
    """Neither those to whom it happened before, told afterwards, nor dates that have passed."""
    did(database, RENEWS, id=3, day="2026-11-26")
    did(database, RENEWS, id=4, day="2026-12-04")
    ident = running(database, given, Start("event", "visited"), LONG)
    later = NOW + 10 * DAY
    edition(
        database,
        ident,
        lambda one: edit.add_start(
            edit.add_start(one, Start("event", "ticket_bought")), Start("date", date="renewal")
        ),
        later,
    )
    with clock.at(later + MINUTE), database.session() as session:
        rows = [
            {"event": "ticket_bought", "contact": contact, "at": at.isoformat()}
            for contact, at in ((1, later - HOUR), (2, later + MINUTE))
        ]
        take_events(session, later + MINUTE, "t", rows)
    advance(database, later + MINUTE)
    advance(database, later + DAY)
    assert inside(database, ident) == [2, 4]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {}


def test_everyone_comes_in_by_a_start_that_a_later_edition_adds(database, given):
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id <= 2")
    ident = running(database, given, Start("event", "visited"), LONG)
    everyone = Start("everyone", who=IN_FARROW)
    edition(database, ident, lambda one: edit.add_start(one, everyone), NOW + DAY)
    with database.session() as session:
        start = queries.walked(session, queries.journey(session, ident)).starts[1].id
    with clock.at(NOW + DAY):
        jobs.run_here("journeys.begin", journey_id=ident, start=start)
    assert inside(database, ident) == [1, 2]


def test_a_start_that_cannot_be_asked_does_not_keep_the_others_from_theirs(database, given):
    with database.session() as session:
        made = segment(session, [dict(IN_FARROW.lines[0])]).id
    ident = running(database, given, Start("turns", who=Who(made)), LONG)
    edition(database, ident, lambda one: edit.add_start(one, Start("turns", who=IN_FARROW)), NOW)
    did(database, "DELETE FROM segment_versions WHERE segment_id = :id", id=made)
    did(database, "DELETE FROM segments WHERE id = :id", id=made)
    advance(database, NOW + MINUTE)
    did(database, TO_FARROW, id=2)
    advance(database, NOW + 2 * MINUTE)
    assert inside(database, ident) == [2]
    with database.session() as session:
        problem = queries.journey(session, ident).problem
    assert problem == "A segment of this journey is gone. Choose another."


def test_a_rhythm_brings_everyone_in_on_each_of_its_days(database, given):
    """Every day from the 25th at 9:00 on each person's own clock; NOW is the 23rd, 14:00."""
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id IN (1, 2)")
    did(database, "UPDATE contacts SET timezone = 'Asia/Tokyo' WHERE id = 2")
    start = Start("rhythm", who=IN_FARROW, rhythm="FREQ=DAILY", first="2026-11-25")
    wait = WaitStep("", Span(1, "hour"))
    ident = running(database, given, start, wait, again="any")
    advance(database, dt.datetime(2026, 11, 24, 12, 0, tzinfo=dt.UTC))
    assert by_start(database, ident) == {}
    # 9:00 in Tokyo on the 25th is midnight in London.
    advance(database, dt.datetime(2026, 11, 25, 0, 30, tzinfo=dt.UTC))
    assert inside(database, ident) == [2]
    advance(database, dt.datetime(2026, 11, 25, 9, 30, tzinfo=dt.UTC))
    assert inside(database, ident) == [1]
    did(database, TO_FARROW, id=3)
    advance(database, dt.datetime(2026, 11, 25, 12, 0, tzinfo=dt.UTC))
    advance(database, dt.datetime(2026, 11, 26, 9, 30, tzinfo=dt.UTC))
    assert inside(database, ident) == [1, 3]
    assert by_start(database, ident) == {"start": 5}


def test_a_rhythm_begins_with_the_edition_that_has_it_and_ends_with_its_last_day(database, given):
    did(database, TO_FARROW, id=1)
    start = Start("rhythm", who=IN_FARROW, rhythm="FREQ=DAILY;COUNT=4", first="2026-11-21")
    ident = running(database, given, start, WaitStep("", Span(1, "hour")), again="any")
    for day in (24, 25, 26):
        advance(database, dt.datetime(2026, 11, day, 10, 0, tzinfo=dt.UTC))
    # The 21st, 22nd and 23rd were over before it was started.
    assert by_start(database, ident) == {"start": 1}


def test_also_those_to_whom_it_happened_in_the_days_before(database, given):
    """Once each, with what it said the last time; not those of longer ago, nor others."""
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id <= 4")
    for contact, days, night in (
        (1, 1, "old"),
        (1, 0.5, "new"),
        (2, 6, "b"),
        (3, 8, "c"),
        (5, 1, "d"),
    ):
        at = NOW - days * DAY
        with clock.at(at), database.session() as session:
            details = {"night": night}
            row = {"event": "visited", "contact": contact, "at": at.isoformat()}
            take_events(session, at, "t", [{**row, "details": details}])
    start = Start("event", "visited", IN_FARROW, back=7)
    ident = running(database, given, start, LONG)
    with clock.at(NOW):
        jobs.run_here("journeys.begin", journey_id=ident, start="start")
        jobs.run_here("journeys.begin", journey_id=ident, start="start")
    assert inside(database, ident) == [1, 2]
    assert entry(database, ident, 1).details == {"night": "new"}
    assert entry(database, ident, 1).began_at == NOW
    # From now on by what happens.
    happens(database, "visited", NOW + DAY, 4)
    assert inside(database, ident) == [1, 2, 4]


def test_a_start_that_is_changed_into_another_begins_as_that(database, given):
    """What was an event is everyone by now, and then days: those before are not made up for."""
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id <= 2")
    ident = running(database, given, Start("event", "visited"), LONG)
    everyone = Start("everyone", who=IN_FARROW)
    edition(database, ident, lambda one: edit.set_start(one, "start", everyone), NOW + DAY)
    with clock.at(NOW + DAY):
        jobs.run_here("journeys.begin", journey_id=ident, start="start")
    assert inside(database, ident) == [1, 2]
    did(database, TO_FARROW, id=3)
    days = Start("rhythm", who=IN_FARROW, rhythm="FREQ=DAILY", first="2026-11-01")
    edition(database, ident, lambda one: edit.set_start(one, "start", days), NOW + 5 * DAY)
    advance(database, NOW + 5 * DAY + HOUR)
    assert inside(database, ident) == [1, 2]
    advance(database, dt.datetime(2026, 11, 29, 9, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [1, 2, 3]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {"inside": 2}


def test_a_start_that_was_taken_away_for_a_time_counts_nothing_of_that_time(database, given):
    did(database, RENEWS, id=4, day="2026-11-27")
    turns, date = Start("turns", who=IN_FARROW), Start("date", date="renewal")
    ident = running(database, given, turns, LONG)
    edition(database, ident, lambda one: edit.add_start(one, date), NOW)
    advance(database, NOW + MINUTE)
    with database.session() as session:
        before = queries.walked(session, queries.journey(session, ident)).starts
    other = Start("event", "visited", id="other")
    edition(database, ident, lambda one: dataclasses.replace(one, starts=(other,)), NOW + DAY)
    did(database, TO_FARROW, id=2)
    advance(database, NOW + 2 * DAY)
    edition(database, ident, lambda one: dataclasses.replace(one, starts=before), NOW + 5 * DAY)
    advance(database, NOW + 5 * DAY + MINUTE)
    did(database, TO_FARROW, id=3)
    advance(database, NOW + 5 * DAY + 2 * MINUTE)
    assert inside(database, ident) == [3]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {}
