"""The last moment of a send: people still waiting then get nothing, and are counted."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.outgoing.models import Delivery
from meadowrun.people import actions as people
from meadowrun.people.models import Contact
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, run_all, started
from tests.store.work import work

HOUR, WEEK = dt.timedelta(hours=1), dt.timedelta(hours=168)
MOMENT = dt.timedelta(seconds=1)


def within(database, ident, hours):
    with database.session() as session:
        session.get_one(Send, ident).within_hours = hours


def go_on(database, now):
    with clock.at(now):
        work(database)


def dues(database, ident):
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        return session.scalars(
            sa.select(Delivery.due).where(Delivery.dispatch_id == dispatch).order_by(Delivery.due)
        ).all()


def test_a_send_has_a_week_unless_it_says_otherwise(database, settings, job_context, keeper):
    ident = started(database, settings, 3)
    run_all(database, ident)
    with database.session() as session:
        assert session.get_one(Send, ident).dispatch.last_moment == NOW + WEEK


@pytest.mark.parametrize(("after", "reached"), [(HOUR - MOMENT, 5), (HOUR, 0), (HOUR + MOMENT, 0)])
def test_up_to_the_last_moment_it_goes_and_from_then_on_nothing_does(
    database, settings, job_context, keeper, after, reached
):
    """A mail server that takes nobody until then."""
    ident = started(database, settings, 5)
    within(database, ident, 1)
    keeper.break_after = 0
    run_all(database, ident)
    assert counts(database, ident)[0] == {"waiting": 5}
    keeper.break_after = None
    go_on(database, NOW + after)
    found, send = counts(database, ident)
    assert found == ({"delivered": 5} if reached else {"late": 5})
    assert len(keeper.letters) == reached and send.state == "done"


def test_a_send_ends_at_a_moment_that_is_named(database, settings, job_context, keeper):
    """People wait for the evening, and it ends before: whoever waits gets nothing."""
    ends = NOW + 2 * HOUR
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        send.hours, send.ends_at = {"from": "20:00", "to": "21:00"}, ends
        session.flush()
        actions.start(session, IDA, NOW, send, settings.public_url, 3, send.version)
        ident = send.id
    run_all(database, ident)
    assert counts(database, ident)[0] == {"waiting": 3}
    assert set(dues(database, ident)) == {ends}
    go_on(database, ends)
    found, send = counts(database, ident)
    assert found == {"late": 3} and not keeper.letters


@pytest.mark.parametrize("begins", [HOUR, 2 * HOUR, 3 * HOUR])
def test_a_send_that_would_end_before_it_begins_does_not_start(database, settings, begins):
    ends = NOW + 2 * HOUR
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 1)
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        send.leaves_at, send.ends_at = NOW + begins, ends
        session.flush()
        found = [c.text for c in actions.findings(session, send, settings.public_url, 1)]
        assert ("It ends before it goes out" in " ".join(found)) is (begins >= 2 * HOUR)


def test_the_end_of_a_send_is_chosen_on_its_sheet_and_by_the_api(database, web, api):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 1)
        ident = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []}).id
    day = dt.datetime.now(dt.UTC).date() + dt.timedelta(days=3)

    def choose(version, **form):
        return web.post(f"/sends/{ident}/word/within", data={"version": version, **form})

    def version():
        with database.session() as session:
            return session.get_one(Send, ident).version

    before = version()
    assert choose(before, hours="", day=day.isoformat(), time="18:00").status_code == 303
    assert ", 18:00</button>" in web.get(f"/sends/{ident}").text.replace("\n", "")
    said = api("get", f"/sends/{ident}")[1]
    assert dt.datetime.fromisoformat(said["ends_at"]).date() == day
    assert choose(version(), hours="", day="2020-01-01", time="18:00").status_code == 422
    assert choose(version(), hours="", day="soon", time="").status_code == 422
    assert choose(version(), hours="24").status_code == 303
    assert api("get", f"/sends/{ident}")[1]["ends_at"] is None
    status, said = api("put", f"/sends/{ident}", {"version": version(), "ends_at": "2026-12-24"})
    assert status == 422 and "offset" in said["error"]
    status, said = api(
        "put",
        f"/sends/{ident}",
        {
            "version": version(),
            "ends_at": f"{day}T18:00:00+00:00",
            "leaves_at": f"{day}T09:00:00+00:00",
            "rhythm": "FREQ=WEEKLY",
        },
    )
    assert status == 422 and "repeats" in said["error"]


def test_whoever_the_gateway_puts_off_is_judged_at_the_last_moment(
    database, settings, job_context, keeper
):
    """Put off for a quarter of an hour each time, the last of them is cut short."""
    ident = started(database, settings, 2)
    within(database, ident, 1)
    keeper.defer = {"p1@post.example"}
    run_all(database, ident)
    for minutes in (16, 32, 50):
        go_on(database, NOW + dt.timedelta(minutes=minutes))
    assert counts(database, ident)[0] == {"delivered": 1, "deferred": 1}
    assert dues(database, ident)[-1] == NOW + HOUR, "no later than the last moment"
    letters = len(keeper.letters)
    go_on(database, NOW + HOUR)
    found, send = counts(database, ident)
    assert found == {"delivered": 1, "late": 1} and send.state == "done"
    assert len(keeper.letters) == letters, "nothing more is handed over"
    with database.session() as session:
        kept = session.scalars(sa.select(Delivery).where(Delivery.outcome == "late")).one()
        assert kept.stood_on == {"because": "last_moment", "too_late": True}


def test_a_send_paused_over_its_last_moment_hands_nobody_over_when_it_goes_on(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 4)
    within(database, ident, 1)
    keeper.break_after = 1
    run_all(database, ident)
    with clock.at(NOW), database.session() as session:
        actions.pause(session, IDA, NOW, session.get_one(Send, ident))
    keeper.break_after = None
    go_on(database, NOW + 2 * HOUR)
    assert counts(database, ident)[0] == {"delivered": 1, "waiting": 3}, "paused, nobody is judged"
    with clock.at(NOW + 2 * HOUR), database.session() as session:
        actions.resume(session, IDA, NOW + 2 * HOUR, session.get_one(Send, ident))
    go_on(database, NOW + 2 * HOUR)
    found, send = counts(database, ident)
    assert found == {"delivered": 1, "late": 3} and send.state == "done"


def test_whoever_waits_for_hours_gets_it_at_the_last_moment_all_the_same(
    database, settings, job_context, keeper
):
    """At 14:00, for 9:00 to 10:00, within an hour: where that was chosen it goes at 15:00, but to
    nobody who said no meanwhile; and what the server puts off then is tried again, not at once."""
    for at_last, expected in (("drop", {"late": 3}), ("send", {"delivered": 1})):
        with clock.at(NOW), database.session() as session:
            if at_last == "drop":
                many(session, NOW, 3)
            who = {"in": [{"everyone": True}], "out": []}
            send = ready_send(session, NOW, who)
            send.hours, send.within_hours = {"from": "09:00", "to": "10:00"}, 1
            send.at_last = at_last
            session.flush()
            actions.start(session, IDA, NOW, send, settings.public_url, 3, send.version)
            ident = send.id
        run_all(database, ident)
        assert counts(database, ident)[0] == {"waiting": 3}
        assert set(dues(database, ident)) == {NOW + HOUR}
        if at_last == "send":
            with clock.at(NOW), database.session() as session:
                people.set_consent(session, NOW, 1, 0, False, "by telephone")
            keeper.defer = {"p2@post.example"}
            expected = {"no_consent": 1, "deferred": 1, "delivered": 1}
        go_on(database, NOW + HOUR)
        assert counts(database, ident)[0] == expected
    assert max(dues(database, ident)) == NOW + HOUR + dt.timedelta(minutes=15)
    keeper.defer = set()
    go_on(database, NOW + HOUR + dt.timedelta(minutes=16))
    found, send = counts(database, ident)
    assert found == {"no_consent": 1, "delivered": 2} and send.state == "done"


def test_what_a_person_asked_for_is_said_before_the_lateness(
    database, settings, job_context, keeper
):
    ident = started(database, settings, 2)
    within(database, ident, 1)
    keeper.break_after = 0
    run_all(database, ident)
    with clock.at(NOW), database.session() as session:
        who = session.scalars(sa.select(Contact).order_by(Contact.id)).first()
        people.set_consent(session, NOW, who.id, 0, False, "by telephone")
    keeper.break_after = None
    go_on(database, NOW + 2 * HOUR)
    assert counts(database, ident)[0] == {"no_consent": 1, "late": 1}
