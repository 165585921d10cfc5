"""Who gets nothing because of what was chosen for a send, or for all of them: no room within the
limits, no longer in the audience, the standing control group."""

import datetime as dt
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Invalid
from meadowrun.core.audience.persons import share_number
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.limits import held_out_salt, held_out_since
from meadowrun.outgoing import caps, held_out
from meadowrun.outgoing.models import Delivery
from meadowrun.people.models import Contact, EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions as segments
from meadowrun.sends import actions
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.sends.why import why
from tests.conftest import NOW
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.sending import counts, go, segment
from tests.store.web import sign_in

LONDON = zoneinfo.ZoneInfo("Europe/London")
HOUR = dt.timedelta(hours=1)


@pytest.fixture
def sent(database, settings, job_context):
    """A send to some people who are there, started: its number."""

    def made(going, who=None, **how):
        with clock.at(NOW), database.session() as session:
            send = ready_send(session, NOW, who or {"in": [{"everyone": True}], "out": []})
            for name, value in how.items():
                setattr(send, name, value)
            session.flush()
            actions.start(session, IDA, NOW, send, settings.public_url, going, send.version)
            return send.id

    return made


@pytest.fixture
def people(database):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 6)


def outcomes(database, ident):
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(sa.select(Delivery).where(Delivery.dispatch_id == dispatch))
        return {row.contact_id: (row.outcome, (row.stood_on or {}).get("because")) for row in rows}


def test_people_without_room_get_nothing_where_the_send_says_so(database, people, sent, keeper):
    with clock.at(NOW), database.session() as session:
        caps.save(session, IDA, NOW, Cap(1, 1, "day"))
        some = segment(session)
    first = sent(6, {"in": [{"segment": some.id}], "out": []})
    go(database, NOW)
    assert counts(database, first)[0] == {"delivered": 6}
    skips = sent(6, no_room="skip")
    waits = sent(6)
    go(database, NOW + HOUR)
    assert outcomes(database, skips) == dict.fromkeys(range(1, 7), ("no_room", "cap"))
    assert counts(database, skips)[1].state == "done"
    assert outcomes(database, waits) == dict.fromkeys(range(1, 7), ("waiting", "cap"))


def test_whoever_waits_for_something_else_may_have_room_by_then(database, people, sent, keeper):
    """At 14:00 there is no room today; the send waits for the hours of tomorrow, when there is."""
    with clock.at(NOW), database.session() as session:
        caps.save(session, IDA, NOW, Cap(1, 1, "day"))
    first = sent(6)
    go(database, NOW)
    ident = sent(6, no_room="skip", hours={"from": "09:00", "to": "10:00"})
    go(database, NOW + HOUR)
    assert outcomes(database, ident) == dict.fromkeys(range(1, 7), ("waiting", "hours"))
    go(database, NOW + 19 * HOUR)
    assert counts(database, ident)[0] == {"delivered": 6}
    assert counts(database, first)[0] == {"delivered": 6}


def bought(database, *contacts):
    with database.session() as session:
        kind = session.scalar(sa.select(EventKind.id).where(EventKind.key == "ticket_bought"))
        for contact in contacts:
            session.execute(
                sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
                {"c": contact, "at": NOW + HOUR, "k": kind},
            )


@pytest.fixture
def not_bought(database, people):
    """The segment of those who have not bought a ticket: its number."""
    with clock.at(NOW), database.session() as session:
        kinds(session)
        line = {"id": "a", "kind": "event", "event": "ticket_bought", "did": False}
        made = segments.save(
            session,
            IDA,
            NOW,
            dictionary(session),
            "No ticket",
            {"format": 1, "lines": [line]},
        )
        return made.id


@pytest.mark.parametrize("still_in", [True, False])
def test_who_is_no_longer_in_the_audience(database, not_bought, sent, keeper, still_in):
    """Two of six buy while everybody waits for the evening."""
    who = {"in": [{"segment": not_bought}], "out": []}
    ident = sent(6, who, still_in=still_in, hours={"from": "18:00", "to": "20:00"})
    go(database, NOW)
    assert counts(database, ident)[0] == {"waiting": 6}
    bought(database, 2, 5)
    go(database, NOW + 4 * HOUR)
    found = outcomes(database, ident)
    gone = {i for i, (outcome, _) in found.items() if outcome == "left_audience"}
    assert gone == ({2, 5} if still_in else set())
    assert sum(outcome == "delivered" for outcome, _ in found.values()) == 6 - len(gone)
    if still_in:
        assert found[2] == ("left_audience", "left_audience")
        with clock.at(NOW), database.session() as session:
            moment = Moment(session, dictionary(session), NOW, LONDON)
            said = why(moment, session.get_one(Send, ident), session.get_one(Contact, 2))
        assert str(said.what) == "No longer in the audience"
        assert said.facts == ("was not in the audience any more",)


def test_the_audience_of_a_deleted_segment_has_nobody(database, not_bought, sent, keeper):
    who = {"in": [{"segment": not_bought}], "out": []}
    ident = sent(6, who, still_in=True, hours={"from": "18:00", "to": "20:00"})
    go(database, NOW)
    with database.session() as session:
        session.execute(sa.text("DELETE FROM segments WHERE id = :id"), {"id": not_bought})
    go(database, NOW + 4 * HOUR)
    assert counts(database, ident)[0] == {"left_audience": 6}


def hold_out(database, percent, period="quarter"):
    with clock.at(NOW), database.session() as session:
        held_out.save(session, IDA, NOW, percent, period)


def test_the_standing_control_group_gets_no_marketing(
    database, settings, job_context, sent, keeper
):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 400)
    hold_out(database, 12.5)
    # Drawn by chance, by the quarter: 23 November lies in the fourth of 2026.
    group = {i for i in range(1, 401) if share_number(i, "held out:2026:3:3") < 1250}
    assert 20 < len(group) < 80
    with clock.at(NOW), database.session() as session:
        draft = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        moment = Moment(session, dictionary(session), NOW, LONDON)
        assert estimate(moment, draft).outcomes == {"go": 400 - len(group), "held_out": len(group)}
    ident = sent(400 - len(group), control={"percent": 10.0})
    service = sent(400, consent_rule="service")
    go(database, NOW)
    found = outcomes(database, ident)
    assert {i for i, one in found.items() if one[0] == "held_out"} == group
    # Whoever is in both is told apart by the standing one.
    assert all(found[i] == ("held_out", "held_out") for i in group)
    assert counts(database, ident)[0]["control"] > 10
    assert counts(database, service)[0] == {"delivered": 400}


@pytest.mark.parametrize(
    ("period", "day", "since", "next_day"),
    [
        ("month", "2026-11-23", "2026-11-01", "2026-12-01"),
        ("quarter", "2026-11-23", "2026-10-01", "2027-01-01"),
        ("half", "2026-11-23", "2026-07-01", "2027-01-01"),
        ("year", "2026-11-23", "2026-01-01", "2027-01-01"),
        ("quarter", "2026-03-31", "2026-01-01", "2026-04-01"),
    ],
)
def test_it_is_steady_for_a_period_and_then_drawn_anew(period, day, since, next_day):
    day, since, next_day = (dt.date.fromisoformat(one) for one in (day, since, next_day))
    assert held_out_since(period, day) == since
    last = next_day - dt.timedelta(days=1)
    assert held_out_salt(period, day) == held_out_salt(period, since) == held_out_salt(period, last)
    assert held_out_salt(period, next_day) != held_out_salt(period, day)


def test_what_marketing_brought(database, people):
    """Half of everybody is kept out; of the others one bought, of the group nobody."""
    with database.session() as session:
        kinds(session)
        session.execute(
            sa.text("UPDATE contacts SET created_at = :at"), {"at": NOW - dt.timedelta(days=400)}
        )
    hold_out(database, 50.0)
    group = {i for i in range(1, 7) if share_number(i, "held out:2026:3:3") < 5000}
    others = sorted(set(range(1, 7)) - group)
    assert group
    assert others
    bought(database, others[0])
    with clock.at(NOW + 2 * HOUR), database.session() as session:
        moment = Moment(session, dictionary(session), NOW + 2 * HOUR, LONDON)
        found = {one.did: one.worth for one in held_out.brought(moment)}
    assert list(found) == ["bought a ticket"]
    told = found["bought a ticket"]
    assert (told.written.people, told.written.succeeded) == (len(others), 1)
    assert (told.control.people, told.control.succeeded) == (len(group), 0)


@pytest.mark.parametrize("percent", [0.0, 51.0, -1.0])
def test_a_share_that_cannot_be(database, percent):
    with pytest.raises(Invalid, match=r"between 0\.1 and 50"):
        hold_out(database, percent)


def test_the_page_of_the_standing_control_group(client, database, people):
    sign_in(client)
    client.post("/sending/held-out", data={"percent": "7,5", "period": "half"})
    with database.session() as session:
        found = held_out.rules(session)
        assert (found.held_out_percent, found.held_out_period) == (7.5, "half")
    assert 'value="7.5"' in client.get("/sending").text
    answer = client.post("/sending/held-out", data={"percent": "many", "period": "half"})
    assert answer.status_code == 422
    assert "Give the share as a number" in answer.text
    # What was typed is not lost.
    assert 'value="many"' in answer.text
    client.post("/sending/held-out", data={"percent": "", "period": "half"})
    with database.session() as session:
        assert held_out.rules(session).held_out_percent is None
