"""Journeys after days without workers: all that happened is looked at in its order."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys.steps import (
    Door,
    ExitRule,
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    WaitStep,
    Who,
)
from meadowrun.journeys import entering, figures, queries
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.starting import (
    DAY,
    HOUR,
    IN_FARROW,
    LONG,
    MINUTE,
    did,
    entry,
    happens,
    moves,
    running,
)

VISITED = Start("event", "visited")
A_DAY = WaitStep("", Span(1, "day"))
OUTAGE = NOW + 6 * DAY


def untold(database, kind, at, *contacts):
    """Something happens, and no worker is there to hear of it."""
    with clock.at(at), database.session() as session:
        rows = [{"event": kind, "contact": one, "at": at.isoformat()} for one in contacts]
        take_events(session, at, "t", rows)


def times(database, ident, contact):
    """Each time that somebody was inside: from when to when."""
    with database.session() as session:
        found = queries.entries(session, ident, contact)
        return [(one.began_at, one.ended_at) for one in reversed(found)]


def refused(database, ident):
    with database.session() as session:
        return figures.numbers(session, ident).refused


def test_whoever_was_through_by_then_comes_in_again(database, given):
    ident = running(database, given, VISITED, A_DAY, again="any")
    happens(database, "visited", NOW + HOUR, 1)
    untold(database, "visited", NOW + 2 * DAY, 1)
    advance(database, OUTAGE)
    first, second = NOW + HOUR, NOW + 2 * DAY
    assert times(database, ident, 1) == [(first, first + DAY), (second, second + DAY)]
    assert refused(database, ident) == {}


def test_whoever_was_inside_then_does_not(database, given):
    """The second of three visits lies within the day of the first."""
    ident = running(database, given, VISITED, A_DAY, again="any")
    for hours in (1, 13, 49):
        untold(database, "visited", NOW + hours * HOUR, 1)
    advance(database, OUTAGE)
    first, second = NOW + HOUR, NOW + 49 * HOUR
    assert times(database, ident, 1) == [(first, first + DAY), (second, second + DAY)]
    assert refused(database, ident) == {"inside": 1}


def test_what_takes_people_out_takes_them_from_where_they_were(database, given):
    """Out after a day and a half, on the second of three waits of a day."""
    rule = ExitRule("", "ticket_bought", Who())
    ident = running(database, given, VISITED, A_DAY, A_DAY, A_DAY, exits=(rule,))
    untold(database, "visited", NOW + HOUR, 1, 2)
    untold(database, "ticket_bought", NOW + HOUR + 36 * HOUR, 1)
    advance(database, OUTAGE)
    walked = [at for _, at in moves(database, ident, 1)]
    assert walked == [NOW + HOUR, NOW + HOUR + DAY, NOW + HOUR + 36 * HOUR]
    assert entry(database, ident, 1).state == "left"
    assert entry(database, ident, 2).ended_at == NOW + HOUR + 3 * DAY


def test_what_was_waited_for_is_done_before_what_came_after_it(database, given):
    """A visit has them go on to the last wait; a ticket a day later takes them out of that."""
    waits = WaitForStep("", Span(5, "day"), (Path("", event="ticket_bought"), Path("")))
    rule = ExitRule("", "survey_answered", Who())
    ident = running(database, given, VISITED, waits, LONG, exits=(rule,))
    untold(database, "visited", NOW + HOUR, 1)
    untold(database, "ticket_bought", NOW + DAY, 1)
    untold(database, "survey_answered", NOW + 2 * DAY, 1)
    advance(database, OUTAGE)
    walked = [at for _, at in moves(database, ident, 1)]
    assert walked == [NOW + HOUR, NOW + DAY, NOW + 2 * DAY]
    assert entry(database, ident, 1).state == "left"


def test_a_rhythm_brings_in_again_whoever_was_through(database, given):
    """Every day at nine, in London: through after an hour each time, also over days unseen."""
    rhythm = Start(
        "rhythm",
        who=Who(lines=({"id": "t", "kind": "field", "field": "first_name", "op": "not_blank"},)),
        at=9 * 60,
        rhythm="FREQ=DAILY",
        first=NOW.date().isoformat(),
    )
    ident = running(database, given, rhythm, WaitStep("", Span(1, "hour")), again="any")
    nine = dt.datetime(2026, 11, 24, 9, tzinfo=dt.UTC)
    advance(database, nine + MINUTE)
    advance(database, nine + 2 * DAY + 3 * HOUR)
    began = [begins for begins, _ in times(database, ident, 1)]
    assert began[0] == nine and nine + 2 * DAY in began
    assert "inside" not in refused(database, ident)


def test_what_different_people_did_is_looked_at_together(database, given, monkeypatch):
    """Five visits over five hours: one look. A second visit of one of them is another."""
    looks, heard = [], entering.heard

    def counted(session, until, most):
        looks.append(until)
        return heard(session, until, most)

    monkeypatch.setattr(entering, "heard", counted)
    ident = running(database, given, VISITED, LONG)
    for contact in range(1, 6):
        untold(database, "visited", NOW + contact * HOUR, contact)
    advance(database, OUTAGE)
    assert looks == [OUTAGE]
    untold(database, "visited", OUTAGE + HOUR, 1)
    untold(database, "visited", OUTAGE + 2 * HOUR, 2)
    untold(database, "visited", OUTAGE + 3 * HOUR, 1)
    looks.clear()
    advance(database, OUTAGE + DAY)
    assert looks == [OUTAGE + 3 * HOUR - dt.timedelta(microseconds=1), OUTAGE + DAY]
    assert refused(database, ident) == {"inside": 3}


def test_a_journey_that_was_full_has_room_again_in_its_order(database, given):
    """One inside at once, for half an hour each: of three who come at intervals of 20 minutes the
    second finds it full, the third does not."""
    half_an_hour = WaitStep("", Span(30, "minute"))
    ident = running(database, given, VISITED, half_an_hour, again="any", door=Door(most_inside=1))
    for contact in (1, 2, 3):
        untold(database, "visited", NOW + HOUR + contact * 20 * MINUTE, contact)
    advance(database, OUTAGE)
    assert [len(times(database, ident, contact)) for contact in (1, 2, 3)] == [1, 0, 1]
    assert refused(database, ident) == {"full": 1}


def test_nobody_who_should_be_out_by_now_is_sent_what_they_waited_for(database, given, keeper):
    """Ann moves to Farrow while no worker is there, before her hour is over; Ben does not."""
    rule = ExitRule("", who=IN_FARROW)
    hour = WaitStep("", Span(1, "hour"))
    ident = running(database, given, VISITED, hour, MessageStep("", given[1]), exits=(rule,))
    happens(database, "visited", NOW + HOUR, 1, 2)
    did(database, "UPDATE contacts SET town = 'Farrow' WHERE id = 1")
    advance(database, OUTAGE)
    assert entry(database, ident, 1).state == "left"
    assert entry(database, ident, 1).ended_at == OUTAGE
    assert entry(database, ident, 2).state == "finished"
    assert len(keeper.letters) == 1


def test_much_that_is_late_does_not_keep_the_others_from_going_on(database, given):
    """Ninety visits of an outage and a wait that is over in the middle of them."""
    ident = running(database, given, VISITED, WaitStep("", Span(30, "minute")), again="any")
    for minutes in range(0, 900, 10):
        untold(database, "visited", NOW + HOUR + minutes * MINUTE, 1 + minutes // 10 % 5)
    advance(database, OUTAGE)
    # Each of five comes every fifty minutes and stays thirty.
    assert [len(times(database, ident, one)) for one in range(1, 6)] == [18] * 5
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM heard")) == 0
