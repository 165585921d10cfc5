"""What brings people into a journey besides events, what takes them out at once, where they go over
to another, and waits that follow their dates."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    ExitRule,
    JumpStep,
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, checking, figures, queries
from meadowrun.journeys.models import Journey
from meadowrun.people.duplicates import merge, undo
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
    moves,
    running,
    stand,
)


def test_whoever_becomes_one_comes_in_and_nobody_who_was_one_before(database, given):
    did(database, TO_FARROW, id=1)
    ident = running(database, given, Start("turns", who=IN_FARROW), LONG)
    advance(database, NOW + MINUTE)
    assert inside(database, ident) == []
    did(database, TO_FARROW, id=2)
    advance(database, NOW + 2 * MINUTE)
    advance(database, NOW + 3 * MINUTE)
    assert inside(database, ident) == [2]


def test_whoever_is_no_longer_one_comes_in(database, given):
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id <= 3")
    ident = running(database, given, Start("turns_not", who=IN_FARROW), LONG)
    did(database, "UPDATE contacts SET town = 'Hill' WHERE id = 3")
    advance(database, NOW + MINUTE)
    assert inside(database, ident) == [3]


def test_who_joins_a_list_comes_in(database, given):
    line = {"id": "l", "kind": "list", "list": 1, "inside": True}
    ident = running(database, given, Start("turns", who=Who(lines=(line,))), LONG)
    did(database, "INSERT INTO list_members (list_id, contact_id) VALUES (1, 4)")
    advance(database, NOW + MINUTE)
    assert inside(database, ident) == [4]


def test_a_changed_segment_brings_in_nobody_who_did_not_change(database, given):
    did(database, "UPDATE contacts SET town = 'Hill' WHERE id <= 3")
    with database.session() as session:
        made = segment(session, [dict(IN_FARROW.lines[0])]).id
    ident = running(database, given, Start("turns", who=Who(made)), LONG)
    did(
        database,
        "UPDATE segments SET definition = jsonb_set(definition, '{lines,0,value}', '[\"Hill\"]')",
    )
    advance(database, NOW + MINUTE)
    assert inside(database, ident) == []
    did(database, "UPDATE contacts SET town = 'Hill' WHERE id = 5")
    advance(database, NOW + 2 * MINUTE)
    assert inside(database, ident) == [5]


def test_nobody_comes_in_late_for_what_they_became_while_it_was_paused(database, given):
    ident = running(database, given, Start("turns", who=IN_FARROW), LONG)
    with database.session() as session:
        actions.pause(session, IDA, NOW, queries.journey(session, ident))
    did(database, TO_FARROW, id=1)
    advance(database, NOW + MINUTE)
    with database.session() as session:
        actions.resume(session, IDA, NOW, queries.journey(session, ident))
    advance(database, NOW + 2 * MINUTE)
    assert inside(database, ident) == []


def test_a_date_brings_each_in_on_the_morning_of_their_own_clock(database, given):
    # NOW is 23 November 2026, 14:00 in London.
    did(database, RENEWS, id=1, day="2026-12-01")
    did(database, RENEWS, id=2, day="2026-12-01")
    did(database, RENEWS, id=3, day="2026-12-02")
    did(database, "UPDATE contacts SET timezone = 'Asia/Tokyo' WHERE id = 2")
    start = Start("date", date="renewal", before=7, at=9 * 60)
    ident = running(database, given, start, LONG)
    advance(database, dt.datetime(2026, 11, 23, 23, 59, tzinfo=dt.UTC))
    assert inside(database, ident) == []
    # 9:00 in Tokyo on the 24th is midnight in London.
    advance(database, dt.datetime(2026, 11, 24, 0, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [2]
    advance(database, dt.datetime(2026, 11, 24, 9, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [1, 2]
    assert entry(database, ident, 1).began_at == dt.datetime(2026, 11, 24, 9, 0, tzinfo=dt.UTC)
    advance(database, dt.datetime(2026, 11, 25, 12, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [1, 2, 3]


def test_a_birthday_on_29_february_comes_round_on_the_28th(database, given):
    did(database, RENEWS, id=1, day="2000-02-29")
    did(database, RENEWS, id=2, day="1990-02-28")
    start = Start("date", date="renewal", before=0, at=8 * 60, yearly=True)
    ident = running(database, given, start, LONG, again="any")
    with database.session() as session:
        # As if it had stood since February: three months pass at once.
        session.execute(sa.text("UPDATE journey_days SET day = '2027-02-27'"))
    advance(database, dt.datetime(2027, 2, 28, 8, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [1, 2]


def test_days_that_nobody_worked_are_made_up_for_where_it_is_not_too_late(database, given):
    did(database, RENEWS, id=1, day="2026-11-25")
    did(database, RENEWS, id=2, day="2026-11-27")
    start = Start("date", date="renewal", before=0, at=9 * 60)
    ident = running(database, given, start, LONG)
    # Three days without workers: the 25th is too late by then.
    advance(database, dt.datetime(2026, 11, 27, 10, 0, tzinfo=dt.UTC))
    assert inside(database, ident) == [2]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {"late": 1}


def test_only_some_of_those_to_whom_it_happens_are_taken_in(database, given):
    did(database, TO_FARROW, id=1)
    ident = running(database, given, Start("event", "visited", IN_FARROW), LONG)
    happens(database, "visited", NOW + MINUTE, 1, 2)
    assert inside(database, ident) == [1]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {"not_one": 1}


def test_an_exit_rule_takes_people_out_at_once_and_what_waits_is_not_sent(database, given):
    rules = (ExitRule("", "ticket_bought"), ExitRule("", who=IN_FARROW))
    ident = running(
        database,
        given,
        Start("event", "visited"),
        MessageStep("", given[1]),
        LONG,
        exits=rules,
    )
    with database.session() as session:
        # Whatever is sent must wait for the evening.
        session.get_one(Journey, ident).hours = {"from": "20:00", "to": "21:00"}
    happens(database, "visited", NOW + MINUTE, 1, 2, 3)
    happens(database, "ticket_bought", NOW + 2 * MINUTE, 1)
    assert inside(database, ident) == [2, 3]
    did(database, TO_FARROW, id=2)
    advance(database, NOW + 3 * MINUTE)
    assert inside(database, ident) == [3]
    advance(database, dt.datetime(2026, 11, 23, 20, 30, tzinfo=dt.UTC))
    left = stand(database, ident).left
    with database.session() as session:
        rules = queries.walked(session, queries.journey(session, ident)).exits
        sent = session.scalars(
            sa.text("SELECT contact_id FROM deliveries WHERE outcome = 'delivered'")
        ).all()
    assert left == {rules[0].id: 1, rules[1].id: 1} and sent == [3]


def test_what_happened_before_they_came_in_takes_nobody_out(database, given):
    rule = ExitRule("", "visited")
    ident = running(database, given, Start("event", "visited"), LONG, exits=(rule,))
    happens(database, "visited", NOW + MINUTE, 1)
    assert inside(database, ident) == [1]
    happens(database, "visited", NOW + HOUR, 1)
    assert inside(database, ident) == []


RENEWAL = WaitStep("", Span(3, "day"), 10 * 60, date="renewal", before=True)


def test_a_wait_for_a_date_follows_the_date(database, given):
    did(database, RENEWS, id=1, day="2026-12-20")
    ident = running(database, given, Start("event", "visited"), RENEWAL, LONG)
    happens(database, "visited", NOW + MINUTE, 1, 2)
    assert entry(database, ident, 1).due == dt.datetime(2026, 12, 17, 10, 0, tzinfo=dt.UTC)
    # Whoever has no date goes on at once.
    assert [why for why, _ in moves(database, ident, 2)] == ["start", "past"]
    did(database, RENEWS, id=1, day="2027-01-05")
    advance(database, NOW + HOUR)
    assert entry(database, ident, 1).due == dt.datetime(2027, 1, 2, 10, 0, tzinfo=dt.UTC)
    # It is moved before today: that is past already.
    did(database, RENEWS, id=1, day="2026-11-24")
    advance(database, NOW + 2 * HOUR)
    assert moves(database, ident, 1)[-1] == ("past", NOW + 2 * HOUR)


def test_a_wait_until_an_hour_follows_the_clock_they_live_by(database, given):
    nine = WaitStep("", Span(1, "day"), 9 * 60)
    ident = running(database, given, Start("event", "visited"), nine, LONG)
    happens(database, "visited", NOW, 1)
    assert entry(database, ident, 1).due == dt.datetime(2026, 11, 24, 9, 0, tzinfo=dt.UTC)
    did(database, "UPDATE contacts SET timezone = 'America/New_York' WHERE id = 1")
    advance(database, NOW + MINUTE)
    assert entry(database, ident, 1).due == dt.datetime(2026, 11, 24, 14, 0, tzinfo=dt.UTC)


def test_people_go_over_to_another_journey_as_far_as_it_lets_them(database, given):
    other = running(database, given, Start("event", "ticket_bought"), LONG, name="Another")
    happens(database, "ticket_bought", NOW + MINUTE, 1)
    ident = running(database, given, Start("event", "visited"), JumpStep("", other))
    happens(database, "visited", NOW + HOUR, 1, 2)
    assert stand(database, ident).left == {"jumped": 2}
    assert inside(database, other) == [1, 2]
    assert moves(database, other, 2)[0] == ("jumped_in", NOW + HOUR)
    with database.session() as session:
        assert figures.numbers(session, other).refused == {"inside": 1}


def test_journeys_that_lead_back_to_each_other_are_told(database, given):
    other = running(database, given, Start("event", "ticket_bought"), LONG, name="Another")
    ident = running(
        database, given, Start("event", "visited"), LONG, JumpStep("", other), again="any"
    )
    with clock.at(NOW), database.session() as session:
        back = queries.journey(session, other)

        def leads_back(itinerary):
            return edit.add(itinerary, JumpStep("", ident))

        actions.write(session, IDA, NOW, back, back.version, "wrote", leads_back)
        actions.start(session, IDA, NOW, back, back.version)
        found = queries.journey(session, ident)
        draft = queries.draft(session, found)
        said = {one.line: one.text for one in checking.findings(session, found, draft)}
    assert said[draft.steps[1].id] == (
        "This leads back here by itself: people could go round and round."
    )


def test_what_takes_people_out_while_it_is_paused_is_not_lost(database, given):
    rule = ExitRule("", "ticket_bought")
    ident = running(database, given, Start("event", "visited"), LONG, exits=(rule,))
    happens(database, "visited", NOW + MINUTE, 1, 2)
    with database.session() as session:
        actions.pause(session, IDA, NOW + MINUTE, queries.journey(session, ident))
    happens(database, "ticket_bought", NOW + HOUR, 1)
    with database.session() as session:
        actions.resume(session, IDA, NOW + 2 * HOUR, queries.journey(session, ident))
    advance(database, NOW + 2 * HOUR)
    assert inside(database, ident) == [2]


def tells(database, kind, at, *about):
    """An event of contact 1 about each of some nights."""
    with clock.at(at), database.session() as session:
        rows = [
            {
                "event": kind,
                "contact": 1,
                "id": f"{kind}-{night}-{at}",
                "at": at.isoformat(),
                "details": {"night": night} if night else {},
            }
            for night in about
        ]
        take_events(session, at, "t", rows)
    advance(database, at)


def test_two_cases_of_one_person_at_once(database, given):
    """Two nights are bought at once, and one more later: three times inside, each asked by itself.
    A visit of one night takes only that one on; one that says no night takes all."""
    waits = WaitForStep("", Span(5, "day"), (Path("", event="visited"), Path("")))
    rule = ExitRule("", "survey_answered")
    start, message = Start("event", "ticket_bought"), MessageStep("", given[1])
    ident = running(database, given, start, message, waits, LONG, exits=(rule,), subject="night")
    tells(database, "ticket_bought", NOW + MINUTE, "5th", "6th")
    # The same night again is the same.
    tells(database, "ticket_bought", NOW + 2 * MINUTE, "5th")
    tells(database, "ticket_bought", NOW + HOUR, "7th")
    assert inside(database, ident) == [1, 1, 1]
    with database.session() as session:
        assert figures.numbers(session, ident).refused == {"twice": 1}
        sent = session.scalars(
            sa.text("SELECT contact_id FROM deliveries WHERE outcome = 'delivered'")
        ).all()
    assert sent == [1, 1, 1]

    def on(step):
        asked = sa.text(
            "SELECT subject FROM journey_entries WHERE step = :step AND state = 'inside' ORDER BY 1"
        )
        with database.session() as session:
            steps = queries.walked(session, queries.journey(session, ident)).steps
            return session.scalars(asked, {"step": steps[step].id}).all()

    assert on(1) == ["5th", "6th", "7th"]
    tells(database, "visited", NOW + 2 * HOUR, "6th")
    assert (on(1), on(2)) == (["5th", "7th"], ["6th"])
    tells(database, "survey_answered", NOW + 3 * HOUR, "5th")
    assert (on(1), on(2)) == (["7th"], ["6th"])
    tells(database, "visited", NOW + 4 * HOUR, "")
    assert (on(1), on(2)) == ([], ["6th", "7th"])
    with clock.at(NOW + 5 * HOUR), database.session() as session:
        actions.take_out(session, IDA, NOW, queries.journey(session, ident), 1)
    assert inside(database, ident) == []


def test_everyone_of_certain_people_when_it_starts(database, given):
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id <= 2")
    ident = running(database, given, Start("everyone", who=IN_FARROW), LONG)
    jobs.run_here("journeys.begin", journey_id=ident, start="start")
    assert inside(database, ident) == [1, 2]


def test_of_two_records_that_are_merged_the_one_further_on_goes_on_and_undoing_parts_them(
    database, given
):
    ident = running(
        database,
        given,
        Start("event", "visited"),
        WaitStep("", Span(1, "day")),
        LONG,
        again="any",
    )
    happens(database, "visited", NOW + MINUTE, 1)
    happens(database, "visited", NOW + 2 * DAY, 2, 3)
    with clock.at(NOW + 2 * DAY), database.session() as session:
        done = merge(session, IDA, NOW + 2 * DAY, 2, 1, set()).id
    # The record that stays goes on where the other one was: a day ahead.
    assert inside(database, ident) == [2, 3]
    with database.session() as session:
        on = session.scalars(
            sa.text("SELECT step FROM journey_entries WHERE contact_id = 2 AND state = 'inside'")
        ).all()
        steps = queries.walked(session, queries.journey(session, ident)).steps
    assert on == [steps[1].id] and stand(database, ident).left == {"merged": 1}
    with clock.at(NOW + 2 * DAY + HOUR), database.session() as session:
        undo(session, IDA, NOW + 2 * DAY + HOUR, done)
    advance(database, NOW + 2 * DAY + HOUR)
    assert inside(database, ident) == [1, 2, 3] and stand(database, ident).left == {}
    assert entry(database, ident, 1).step == steps[1].id
    assert entry(database, ident, 2).step == steps[0].id


def test_a_segment_that_is_gone_is_said_and_the_others_go_on(database, given):
    with database.session() as session:
        made = segment(session, [dict(IN_FARROW.lines[0])]).id
    wrong = running(database, given, Start("turns", who=Who(made)), LONG, name="Wrong")
    right = running(database, given, Start("turns", who=IN_FARROW), LONG, name="Right")
    did(database, "DELETE FROM segment_versions WHERE segment_id = :id", id=made)
    did(database, "DELETE FROM segments WHERE id = :id", id=made)
    did(database, TO_FARROW, id=2)
    advance(database, NOW + MINUTE)
    assert inside(database, right) == [2] and inside(database, wrong) == []
    with database.session() as session:
        assert queries.journey(session, wrong).problem == (
            "A segment of this journey is gone. Choose another."
        )
