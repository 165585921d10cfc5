"""Sends that repeat: real dates, an audience worked out anew each time, and what becomes of dates
on which nothing worked."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.messages import actions as messages
from meadowrun.messages.models import Message
from meadowrun.outgoing import calendars
from meadowrun.people.models import Contact
from meadowrun.people.queries import dictionary
from meadowrun.sends import actions, repeats
from meadowrun.sends.actions import findings
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add, many, ready_send
from tests.store.sending import counts, go, segment

WEEK = dt.timedelta(days=7)
#: NOW is 14:00 in London on Monday 23 November 2026; the first date is Wednesday at 15:30.
FIRST = dt.datetime(2026, 11, 25, 15, 30, tzinfo=dt.UTC)


@pytest.fixture
def repeating(database, settings, job_context, keeper):
    """A send to two people that repeats by a rule, started: its number."""

    def made(rule, **how):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, 2)
            send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
            send.rhythm, send.leaves_at = rule, how.pop("leaves_at", FIRST)
            for name, value in how.items():
                setattr(send, name, value)
            session.flush()
            actions.start(session, IDA, NOW, send, settings.public_url, 2, send.version)
            return send.id

    return made


def dates(database, ident):
    """The dates of a send that have started, in order."""
    with database.session() as session:
        return session.scalars(
            sa.select(Send).where(Send.repeats_id == ident).order_by(Send.id)
        ).all()


def series(database, ident):
    with database.session() as session:
        return session.get_one(Send, ident)


def test_each_date_is_a_send_of_its_own_to_whoever_is_there_then(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE")
    send = series(database, ident)
    assert (send.state, send.begins_at) == ("planned", FIRST)
    go(database, FIRST - dt.timedelta(seconds=1))
    assert dates(database, ident) == []
    go(database, FIRST)
    with clock.at(FIRST), database.session() as session:
        add(session, FIRST, "newcomer@post.example")
    go(database, FIRST + WEEK)
    first, second = dates(database, ident)
    assert [first.name, second.name] == ["A send, 25 Nov 2026", "A send, 2 Dec 2026"]
    assert counts(database, first.id)[0] == {"delivered": 2}
    assert counts(database, second.id)[0] == {"delivered": 3}
    send = series(database, ident)
    assert (send.state, send.begins_at, send.missed) == ("planned", FIRST + 2 * WEEK, 0)


def test_once_for_each_person_or_each_time(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE", again_rule="message")
    go(database, FIRST)
    with clock.at(FIRST), database.session() as session:
        add(session, FIRST, "newcomer@post.example")
    go(database, FIRST + WEEK)
    found = [counts(database, one.id)[0] for one in dates(database, ident)]
    assert found == [{"delivered": 2}, {"delivered": 1, "had_it": 2}]


@pytest.mark.parametrize("rule", ["FREQ=WEEKLY;BYDAY=WE;COUNT=2", "FREQ=WEEKLY;UNTIL=20261202"])
def test_it_ends_after_so_many_or_on_a_day(database, repeating, keeper, rule):
    ident = repeating(rule)
    for weeks in range(4):
        go(database, FIRST + weeks * WEEK)
    assert len(dates(database, ident)) == 2
    send = series(database, ident)
    assert (send.state, send.finished_at, send.begins_at) == ("done", FIRST + WEEK, None)


def test_it_ends_when_nobody_is_left(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE", again_rule="message", ends_empty=True)
    for weeks in range(5):
        go(database, FIRST + weeks * WEEK)
    # The second reached nobody: there is no third.
    assert [counts(database, one.id)[0] for one in dates(database, ident)] == [
        {"delivered": 2},
        {"had_it": 2},
    ]
    assert series(database, ident).state == "done"


def test_after_three_weeks_without_workers_one_goes_and_the_others_are_counted(
    database, repeating, keeper
):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE", within_hours=24)
    go(database, FIRST + 2 * WEEK + dt.timedelta(hours=1))
    assert [one.name for one in dates(database, ident)] == ["A send, 9 Dec 2026"]
    send = series(database, ident)
    assert (send.missed, send.begins_at) == (2, FIRST + 3 * WEEK)
    # Two days late is later than this send may take.
    go(database, FIRST + 3 * WEEK + dt.timedelta(days=2))
    send = series(database, ident)
    assert len(dates(database, ident)) == 1
    assert (send.missed, send.begins_at) == (3, FIRST + 4 * WEEK)


def test_it_keeps_its_hour_when_the_clock_changes(database, repeating, keeper):
    """London's clocks go forward on 28 March 2027."""
    first = dt.datetime(2027, 3, 24, 15, 30, tzinfo=dt.UTC)
    ident = repeating("FREQ=WEEKLY;BYDAY=WE", leaves_at=first)
    with database.session() as session:
        ahead = repeats.ahead(session, session.get_one(Send, ident), 2)
    assert [date.starts for date in ahead] == [
        first,
        dt.datetime(2027, 3, 31, 14, 30, tzinfo=dt.UTC),
    ]


def test_each_date_goes_by_each_persons_own_clock(database, repeating, keeper):
    local = dt.datetime.fromisoformat("2026-11-25T09:00")
    ident = repeating(
        "FREQ=WEEKLY;BYDAY=WE",
        leaves_at=local.replace(tzinfo=dt.UTC),
        local_at=local,
        zone="Europe/London",
    )
    with database.session() as session:
        session.scalars(sa.select(Contact)).first().timezone = "Asia/Tokyo"
    # It was planned when nobody lived in Tokyo: it starts by London's clock.
    go(database, dt.datetime(2026, 11, 25, 9, 0, tzinfo=dt.UTC))
    # The next begins when it is nine in Tokyo.
    assert series(database, ident).begins_at == dt.datetime(2026, 12, 2, 0, 0, tzinfo=dt.UTC)
    go(database, dt.datetime(2026, 12, 2, 0, 0, tzinfo=dt.UTC))
    second = dates(database, ident)[1]
    assert counts(database, second.id)[0] == {"delivered": 1, "waiting": 1}
    go(database, dt.datetime(2026, 12, 2, 9, 0, tzinfo=dt.UTC))
    assert counts(database, second.id)[0] == {"delivered": 2}


def test_the_newest_approved_message_goes_each_time(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE")
    go(database, FIRST)
    with clock.at(FIRST), database.session() as session:
        message = session.get_one(Message, session.get_one(Send, ident).message_id)
        document = {**message.document, "subject": "Another subject"}
        messages.save(session, IDA, FIRST, message, document, message.version, dictionary(session))
    go(database, FIRST + WEEK)
    subjects = [letter.subject for letter in keeper.letters]
    assert subjects[:2] == ["Hello First1", "Hello First2"]
    assert subjects[2:] == ["Another subject"] * 2


def test_a_date_that_cannot_start_is_said_and_the_next_is_tried(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE")
    with clock.at(FIRST), database.session() as session:
        message = session.get_one(Message, session.get_one(Send, ident).message_id)
        session.execute(
            sa.text("UPDATE messages SET document = jsonb_set(document, '{subject}', :broken)"),
            {"broken": '"{{ contact.nothing_like_it }"'},
        )
    go(database, FIRST)
    send = series(database, ident)
    assert dates(database, ident) == [] and message.id
    assert "could not start" in send.problem and send.missed == 1
    assert (send.state, send.begins_at) == ("planned", FIRST + WEEK)


def test_a_first_date_that_is_no_day_of_the_rhythm_is_asked_about(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=MO")
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        assert send.begins_at == dt.datetime(2026, 11, 30, 15, 30, tzinfo=dt.UTC)
        send.next_local = None
        said = [check.text for check in findings(session, send, "http://here.example", 2)]
    assert said == ["Wed 25 Nov is not a day of its rhythm. The first one is Mon 30 Nov 2026."]


def test_holidays_are_said_beside_the_dates(database, repeating, keeper):
    with clock.at(NOW), database.session() as session:
        number = calendars.save(session, IDA, NOW, "", "GB", None).id
    ident = repeating(
        "FREQ=MONTHLY;BYMONTHDAY=25",
        hours={"from": "09:00", "to": "17:00", "calendar": number},
    )
    with database.session() as session:
        ahead = repeats.ahead(session, session.get_one(Send, ident), 2)
    assert [(f"{date.local:%d %b}", date.holiday) for date in ahead] == [
        ("25 Nov", ""),
        ("25 Dec", "Christmas Day"),
    ]


def test_a_rule_without_a_date_is_refused(database, repeating):
    with pytest.raises(Invalid):
        repeating("FREQ=WEEKLY;BYDAY=WE;UNTIL=20261124")


def test_the_calendar_shows_the_dates_to_come(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;INTERVAL=2;BYDAY=WE")
    go(database, FIRST)
    with database.session() as session:
        found = repeats.between(session, NOW, NOW + 7 * WEEK)
    assert [(send.id, moment) for send, _, moment in found] == [
        (ident, FIRST + 2 * WEEK),
        (ident, FIRST + 4 * WEEK),
        (ident, FIRST + 6 * WEEK),
    ]


def test_what_was_sent_of_it_stays_on_record(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE")
    go(database, FIRST)
    with clock.at(FIRST), database.session() as session:
        send = session.get_one(Send, ident)
        actions.unplan(session, IDA, FIRST, send)
        with pytest.raises(Conflict):
            actions.discard(session, IDA, FIRST, send)


def test_a_changed_rhythm_is_looked_at_again(database, repeating, keeper):
    ident = repeating("FREQ=WEEKLY;BYDAY=WE")
    go(database, FIRST)
    with clock.at(FIRST), database.session() as session:
        send = session.get_one(Send, ident)
        actions.change(session, IDA, FIRST, send, send.version, {"rhythm": "FREQ=WEEKLY;BYDAY=FR"})
        assert (send.state, send.next_local, send.begins_at) == ("draft", None, None)
        assert [f"{date.local:%a %d}" for date in repeats.ahead(session, send, 2)] == [
            "Fri 27",
            "Fri 04",
        ]
