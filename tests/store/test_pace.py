"""While a send goes and after it: how fast, what pausing would do, what was foreseen, and sending
again to those who did not get it."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict
from meadowrun.outgoing import pace, rules
from meadowrun.outgoing.models import Pace
from meadowrun.people.models import ListMember, PeopleList
from meadowrun.sends import actions, again_to
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go, run_all, segment, started
from tests.store.web import sign_in


def test_what_was_handed_over_is_counted_by_domain(database, settings, job_context, keeper):
    keeper.defer = {"p1@post.example", "p2@post.example"}
    ident = started(database, settings, 5)
    run_all(database, ident)
    with database.session() as session:
        row = session.scalars(sa.select(Pace)).one()
        assert (row.domain, row.handed, row.delayed) == ("post.example", 3, 2)
        assert row.ended > row.began
        found = pace.pace(session, row.dispatch_id)
    assert found.delayed == (pace.Delayed("post.example", 2, 5),)
    assert found.a_minute > 0


def test_speed_is_people_by_the_time_it_took(database, settings, job_context, keeper):
    """Two batches of 30 seconds each, 600 people and 300, one right after the other; and what went
    long ago no longer counts."""
    ident = started(database, settings, 1)
    run_all(database, ident)
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        session.execute(sa.text("DELETE FROM paces"))
        session.execute(
            sa.text(
                "INSERT INTO paces VALUES "
                "(:id, date_trunc('minute', clock_timestamp()), 'a.example', 600, 0, "
                "clock_timestamp() - interval '60 s', clock_timestamp() - interval '30 s'), "
                "(:id, date_trunc('minute', clock_timestamp()), '', 300, 0, "
                "clock_timestamp() - interval '30 s', clock_timestamp()), "
                "(:id, clock_timestamp() - interval '1 hour', '', 9000, 900, "
                "clock_timestamp() - interval '1 hour', clock_timestamp() - interval '1 hour')"
            ),
            {"id": dispatch},
        )
        found = pace.pace(session, dispatch)
    assert found.a_minute == pytest.approx(900, rel=0.02)
    assert found.minutes_for(450) == pytest.approx(0.5, rel=0.02)
    assert found.delayed == ()


def test_only_the_largest_domains_are_told_apart(database, settings, job_context, keeper):
    ident = started(database, settings, 1)
    run_all(database, ident)
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        session.execute(sa.text("DELETE FROM paces"))
        handed = [f"x@d{n}.example" for n in range(20) for _ in range(n + 1)]
        pace.note(session, dispatch, 1.0, [*handed, "+44 7700 900001"], ["X@D19.example"])
        rows = {row.domain: row.handed for row in session.scalars(sa.select(Pace))}
    assert rows == {f"d{n}.example": n + 1 for n in range(12, 20)} | {"": sum(range(1, 13)) + 1}


def test_nothing_went_lately(database, settings, job_context, keeper):
    ident = started(database, settings, 1)
    run_all(database, ident)
    with database.session() as session:
        session.execute(sa.text("DELETE FROM paces"))
        found = pace.pace(session, session.get_one(Send, ident).dispatch_id)
    assert (found.a_minute, found.minutes_for(5)) == (None, None)


def test_what_pausing_and_stopping_would_do(client, database, settings, job_context, keeper):
    keeper.defer = {"p1@post.example"}
    ident = started(database, settings, 3)
    run_all(database, ident)
    sign_in(client)
    with clock.at(NOW + dt.timedelta(minutes=1)):
        page = " ".join(client.get(f"/sends/{ident}").text.split())
        assert "Pause this send? 1 person still to go waits until somebody resumes it" in page
        assert "Stop for good? 1 person who waits still gets nothing" in page
        assert "2 people have it already." in page
        assert "The mail server of post.example asks us to try later: 1 of 3 people" in page
        client.post(f"/sends/{ident}/pause")
        page = " ".join(client.get(f"/sends/{ident}").text.split())
        assert "Resume this send? 0 people are due and get it at once; 1 more wait" in page


@pytest.fixture
def over(database, settings, job_context, keeper):
    """A send that is over: of six people one refused, one has no address, one bounced."""
    keeper.refuse = {"p3@post.example"}
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 6)
        session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id = 1"))
        session.execute(sa.text("UPDATE contacts SET email_usable = false WHERE id = 2"))
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        actions.start(session, IDA, NOW, send, settings.public_url, 4, send.version)
        ident = send.id
    go(database, NOW)
    assert counts(database, ident)[0] == {
        "delivered": 3,
        "bounced": 1,
        "no_consent": 1,
        "bad_address": 1,
    }
    return ident


def test_again_to_those_who_did_not_get_it(database, settings, over, keeper):
    later = NOW + dt.timedelta(days=2)
    with clock.at(later), database.session() as session:
        send = session.get_one(Send, over)
        assert again_to.how_many(counts(database, over)[0]) == 3
        made = again_to.send_to_missed(session, IDA, later, send)
        assert (made.state, made.name, made.message_id) == (
            "draft",
            f"{send.name}, again",
            send.message_id,
        )
        kept = session.get_one(PeopleList, made.audience["in"][0]["list"])
        members = sa.select(ListMember.contact_id).where(ListMember.list_id == kept.id)
        assert set(session.scalars(members)) == {1, 2, 3}
        again = made.id
        # One of them agreed meanwhile.
        session.execute(sa.text("UPDATE consents SET agreed = true WHERE contact_id = 1"))
    with clock.at(later), database.session() as session:
        made = session.get_one(Send, again)
        actions.start(session, IDA, later, made, settings.public_url, 1, made.version)
    go(database, later)
    assert counts(database, again)[0] == {"delivered": 1, "bad_address": 1, "bounced_before": 1}
    with clock.at(later), database.session() as session:
        # Whoever got it by the second is left out by a third of the first.
        third = again_to.send_to_missed(session, IDA, later, session.get_one(Send, over))
        assert third.name == f"{session.get_one(Send, over).name}, again 2"
        assert third.again_rule == "message"


def test_nobody_is_left_to_send_to(database, settings, job_context, keeper):
    ident = started(database, settings, 2)
    with database.session() as session, pytest.raises(Conflict, match="not over yet"):
        again_to.send_to_missed(session, IDA, NOW, session.get_one(Send, ident))
    run_all(database, ident)
    with database.session() as session, pytest.raises(Conflict, match="Everybody"):
        again_to.send_to_missed(session, IDA, NOW, session.get_one(Send, ident))


def test_again_by_the_page(client, database, over):
    sign_in(client)
    with clock.at(NOW):
        assert "Send again to the 3 who did not get" in client.get(f"/sends/{over}").text
        answer = client.post(f"/sends/{over}/missed")
        assert answer.status_code == 303
        page = client.get(answer.location).text
    assert "This is a new send to them" in page
    assert "Did not get" in page


def test_what_was_foreseen_stands_beside_what_became(client, database, job_context, keeper):
    """Two of four would get it when it is started; one of these agrees no longer when it goes."""
    evening = NOW + dt.timedelta(hours=4)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 4)
        session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id <= 2"))
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        send.leaves_at = evening
        session.flush()
        ident, version = send.id, send.version
    sign_in(client)
    with clock.at(NOW):
        client.post(f"/sends/{ident}/start", data={"version": version, "going": 2})
        with database.session() as session:
            send = session.get_one(Send, ident)
            assert (send.state, send.foreseen) == ("planned", {"go": 2, "no_consent": 2})
            session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id = 3"))
    go(database, evening)
    with clock.at(evening):
        page = " ".join(client.get(f"/results/{ident}").text.split())
    assert '<b data-count="delivered">1</b> <span class="quiet">of 2 foreseen</span>' in page
    assert '<b data-count="no_consent">3</b> <span class="quiet">of 2 foreseen</span>' in page


def test_names_are_suggested_and_looked_at(client, database, still):
    with database.session() as session:
        many(session, NOW, 1)
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        ident, name, campaign = send.id, send.name, send.campaign_id
    sign_in(client)
    assert "does not follow the pattern" not in client.get(f"/sends/{ident}").text
    client.post("/sending/names", data={"pattern": "{date} {subject}"})
    with database.session() as session:
        assert rules.rules(session).name_pattern == "{date} {subject}"
    assert "does not follow the pattern “{date} {subject}”" in client.get(f"/sends/{ident}").text
    assert 'value="2026-11-23"' in client.get(f"/campaigns/{campaign}").text
    form = client.get(f"/sends/{ident}/word/name").text
    assert 'value="2026-11-23 ' in form
    client.post(f"/campaigns/{campaign}/send", data={"name": f"{name.upper()}!"})
    assert "Another send has nearly the same name" in client.get(f"/sends/{ident}").text
    answer = client.post("/sending/names", data={"pattern": "{colour}"})
    assert "“{colour}” cannot be part of a name" in answer.text
    assert 'value="{colour}"' in answer.text
    assert client.post("/sending/nothing").status_code == 404
