"""A second person approves a send to many people; one switch pauses all marketing."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.outgoing import rules
from meadowrun.sends import actions, approval
from meadowrun.sends.models import Send
from meadowrun.shell.models import User
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, run_all, segment, started
from tests.store.work import work

HERE = "http://here.example"
HOUR = dt.timedelta(hours=1)


@pytest.fixture
def two(database, settings, job_context, keeper):
    """Two colleagues who may approve; more than two people need both."""
    with clock.at(NOW), database.session() as session:
        found = []
        for name in ("Ada", "Ben"):
            user = User(
                email=f"{name.lower()}@farrowhill.example",
                name=name,
                password_hash="!",
                role="approver",
                told=True,
                created_at=NOW,
            )
            session.add(user)
            session.flush()
            found.append(Actor(user.id, name, "approver"))
        rules.ask_second_person(session, IDA, NOW, 2)
    return found


@pytest.fixture
def made(database):
    """A send to so many people, not started: its number."""

    def made(people, **how):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, people)
            send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
            for name, value in how.items():
                setattr(send, name, value)
            session.flush()
            return send.id

    return made


def does(database, ident, what, *arguments, now=NOW):
    with clock.at(now), database.session() as session:
        send = session.get_one(Send, ident)
        version = send.version
        return what(session, *arguments[:1], now, send, *arguments[1:], version)


def told(database):
    with database.session() as session:
        found = session.execute(
            sa.text(
                "SELECT u.name, t.subject FROM told t JOIN users u ON u.id = t.user_id "
                "ORDER BY t.id"
            )
        )
        return [tuple(row) for row in found]


def test_few_people_need_nobody_else(database, two, made):
    ident = made(2)
    does(database, ident, actions.start, two[0], HERE, 2)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"delivered": 2}


def test_somebody_else_approves_and_it_goes(database, two, made):
    ada, ben = two
    ident = made(3)
    with pytest.raises(Invalid) as problem:
        does(database, ident, actions.start, ada, HERE, 3)
    assert "approved by somebody else" in str(problem.value)
    does(database, ident, approval.ask, ada, HERE, 3)
    assert told(database) == [("Ben", "“A send” waits for your approval")]
    with database.session() as session:
        assert [one.id for one in approval.waiting(session, ben)] == [ident]
        assert approval.waiting(session, ada) == []
    with pytest.raises(Conflict):
        does(database, ident, approval.approve, ada, HERE, 3)
    does(database, ident, approval.approve, ben, HERE, 3)
    run_all(database, ident)
    found, send = counts(database, ident)
    assert found == {"delivered": 3} and send.approved_by == "Ben"
    assert told(database)[-1] == ("Ada", "“A send” was approved")


def test_a_changed_send_asks_again(database, two, made):
    ada, ben = two
    ident = made(3)
    does(database, ident, approval.ask, ada, HERE, 3)
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        actions.change(session, ada, NOW, send, send.version, {"name": "Another name"})
    with pytest.raises(Conflict):
        does(database, ident, approval.approve, ben, HERE, 3)
    with database.session() as session:
        assert approval.waiting(session, ben) == []


def test_refused_with_a_word(database, two, made):
    ada, ben = two
    ident = made(3)
    does(database, ident, approval.ask, ada, HERE, 3)
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        with pytest.raises(Invalid):
            approval.refuse(session, ben, NOW, send, "  ")
        approval.refuse(session, ben, NOW, send, "the date is wrong")
        assert (send.is_asked, send.refused_why) == (False, "the date is wrong")
    assert told(database)[-1] == ("Ada", "“A send” was not approved")


def test_a_moment_that_passes_before_approval_does_not_send_and_both_are_told(database, two, made):
    ada, ben = two
    ident = made(3, leaves_at=NOW + HOUR)
    does(database, ident, approval.ask, ada, HERE, 3)
    later = NOW + 2 * HOUR
    with clock.at(later):
        jobs.run_here("sends.sweep")
    with database.session() as session:
        send = session.get_one(Send, ident)
        assert (send.state, send.is_asked) == ("draft", False)
        assert "Nobody approved it" in send.problem
    subject = "“A send” was not approved in time"
    assert told(database)[-2:] == [("Ada", subject), ("Ben", subject)]
    with pytest.raises(Conflict):
        does(database, ident, approval.approve, ben, HERE, 3, now=later)


def test_a_planned_send_is_approved_and_stays_planned(database, two, made):
    ada, ben = two
    ident = made(3, leaves_at=NOW + HOUR)
    does(database, ident, approval.ask, ada, HERE, 3)
    does(database, ident, approval.approve, ben, HERE, 3)
    with database.session() as session:
        assert session.get_one(Send, ident).state == "planned"


def test_everything_waits_while_marketing_is_paused(database, settings, job_context, keeper):
    ident = started(database, settings, 5)
    with clock.at(NOW), database.session() as session:
        rules.pause(session, IDA, NOW, False)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"waiting": 5} and keeper.letters == []
    with clock.at(NOW), database.session() as session:
        rules.resume(session, IDA, NOW)
    with clock.at(NOW):
        work(database)
    assert counts(database, ident)[0] == {"delivered": 5}


@pytest.mark.parametrize(("service_too", "found"), [(False, "delivered"), (True, "waiting")])
def test_service_messages_go_on_unless_chosen(
    database, settings, job_context, keeper, service_too, found
):
    ident = started(database, settings, 2)
    with clock.at(NOW), database.session() as session:
        session.get_one(Send, ident).consent_rule = "service"
        rules.pause(session, IDA, NOW, service_too)
    run_all(database, ident)
    assert counts(database, ident)[0] == {found: 2}


def test_a_batch_under_way_stops_at_the_switch(database, settings, job_context, keeper):
    """The keeper takes one letter at a time; at the third the switch is turned."""
    ident = started(database, settings, 10)
    hand_over = keeper.hand_over

    def slow(messages, begin):
        for place, handed in enumerate(hand_over(messages, begin)):
            yield handed
            if place == 2:
                with database.session() as session:
                    rules.pause(session, IDA, NOW, False)

    keeper.hand_over = slow
    run_all(database, ident)
    found = counts(database, ident)[0]
    assert found == {"delivered": 3, "waiting": 7} and len(keeper.letters) == 3


def test_the_pages(database, web):
    """Paused, every page says so; the number of people is kept."""
    assert "Within five seconds" in web.get("/sending").text
    web.post("/sending/pause")
    assert "All marketing is paused" in web.get("/").text
    web.post("/sending/resume")
    assert "All marketing is paused" not in web.get("/").text
    assert web.post("/sending/second-person", data={"above": "500"}).status_code == 303
    assert 'value="500"' in web.get("/sending").text
    web.post("/sending/second-person", data={"above": "many"})
    assert 'value="500"' in web.get("/sending").text


def test_the_review_asks_for_approval(database, web, made):
    ident = made(3)
    with clock.at(NOW), database.session() as session:
        rules.ask_second_person(session, IDA, NOW, 2)
    page = web.get(f"/sends/{ident}/look").text
    assert "Ask for approval" in page
    with database.session() as session:
        version = session.get_one(Send, ident).version
    form = {"version": version, "going": 3}
    assert web.post(f"/sends/{ident}/ask", data=form).status_code == 303
    assert "asks for approval" in web.get(f"/sends/{ident}").text
    assert "Waits for approval" in web.get(f"/sends/{ident}/look").text
    refused = web.post(f"/sends/{ident}/approve", data=form)
    assert refused.status_code == 409 and "somebody else has to give it" in refused.text
