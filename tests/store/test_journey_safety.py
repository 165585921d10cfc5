"""A journey pauses itself where something goes wrong, says so, and goes on when somebody has it."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import MessageStep, Span, Start, WaitStep
from meadowrun.journeys import actions, queries
from meadowrun.journeys.actions import Limits
from meadowrun.journeys.safety import take_out_withdrawn, watch
from meadowrun.people.actions import set_consent
from meadowrun.people.models import Contact
from meadowrun.tracking.actions import react
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, started_by
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.web import sign_in

MINUTE, DAY = dt.timedelta(minutes=1), dt.timedelta(days=1)
PEOPLE = 60


@pytest.fixture
def journey(database, settings, job_context, keeper):
    """Sixty people on their first message; the number of the journey."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        campaign = session.get_one(Campaign, send.campaign_id)
        made = actions.create(session, IDA, NOW, campaign, "First weeks")

        def built(itinerary):
            itinerary = started_by(itinerary, Start("event", "visited"), "any", 30)
            for step in (MessageStep("", 1), WaitStep("", Span(9, "week"))):
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version)
        rows = [
            {"event": "visited", "contact": one, "at": NOW.isoformat()}
            for one in range(1, PEOPLE + 1)
        ]
        take_events(session, NOW, "t", rows)
        ident = made.id
    advance(database, NOW)
    return ident


def looked(database, ident, at=NOW + MINUTE):
    with clock.at(at), database.session() as session:
        watch(session, at)
    with database.session() as session:
        found = queries.journey(session, ident)
        return found.state, found.problem


def reacts(database, kind, how_many):
    with clock.at(NOW), database.session() as session:
        rows = session.execute(
            sa.text("SELECT number, contact_id FROM deliveries ORDER BY number LIMIT :most"),
            {"most": how_many},
        ).all()
        for number, contact in rows:
            react(session, NOW, number, contact, kind)


def test_where_all_is_well_it_goes_on(database, journey):
    reacts(database, "bounced", 3)
    assert looked(database, journey) == ("running", "")


def test_it_pauses_where_too_much_bounces(database, journey):
    reacts(database, "bounced", 4)
    state, problem = looked(database, journey)
    assert state == "paused"
    assert problem == ("It paused itself: 4 of 60 messages of a day bounced; its limit is 5%.")


def test_it_pauses_where_one_in_three_hundred_complains(database, journey):
    reacts(database, "complained", 1)
    assert looked(database, journey)[0] == "paused"


def test_it_pauses_where_messages_cannot_be_filled_in(database, journey):
    """Three of 60 are 5 in 100; four are more."""
    lost = (
        "UPDATE deliveries SET outcome = 'not_rendered' WHERE number IN "
        "(SELECT number FROM deliveries ORDER BY number LIMIT :most)"
    )
    with database.session() as session:
        session.execute(sa.text(lost), {"most": 3})
    assert looked(database, journey) == ("running", "")
    with database.session() as session:
        session.execute(sa.text(lost), {"most": 4})
    state, problem = looked(database, journey)
    assert state == "paused"
    assert "4 of 60 messages of a day could not be filled in" in problem


def test_it_pauses_where_more_come_in_than_expected_and_goes_on_from_then(database, journey):
    with database.session() as session:
        found = queries.journey(session, journey)
        actions.set_safety(session, IDA, NOW, found, Limits(None, None, None, 59))
    state, problem = looked(database, journey)
    assert state == "paused" and "60 people came in within an hour" in problem
    with clock.at(NOW + MINUTE), database.session() as session:
        actions.resume(session, IDA, NOW + MINUTE, queries.journey(session, journey))
    # What was before is not held against it any more.
    assert looked(database, journey, NOW + 2 * MINUTE) == ("running", "")


@pytest.mark.parametrize("stays", [False, True])
def test_whoever_withdraws_all_consent_leaves_unless_the_author_has_them_stay(
    database, journey, stays
):
    """One says no to email, the only channel that she was asked about; another still has push; a
    third said no before she came in."""
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, journey)
        if stays:
            written = edit.with_withdrawn(queries.draft(session, found), True)
            actions.write(session, IDA, NOW, found, found.version, "w", lambda _: written)
            actions.start(session, IDA, NOW, found, found.version)
        set_consent(session, NOW - DAY, 3, 0, False, "test")
        set_consent(session, NOW, 2, 0, True, "test", "push")
        for contact in (1, 2):
            set_consent(session, NOW + MINUTE, contact, 0, False, "test")
    with clock.at(NOW + 2 * MINUTE), database.session() as session:
        taken = take_out_withdrawn(session, NOW + 2 * MINUTE)
    with database.session() as session:
        left = {
            one: queries.entry(session, journey, one).because
            for one in range(1, 4)
            if queries.entry(session, journey, one).state == "left"
        }
    assert (taken, left) == ((0, {}) if stays else (1, {1: "withdrew"}))


def test_nothing_is_watched_where_nothing_is_set(database, journey):
    with database.session() as session:
        found = queries.journey(session, journey)
        actions.set_safety(session, IDA, NOW, found, Limits(None, None, None, None))
    reacts(database, "bounced", 60)
    assert looked(database, journey)[0] == "running"


def test_it_is_set_said_and_shown_on_today(database, client, journey, still):
    sign_in(client)
    with database.session() as session:
        version = queries.journey(session, journey).version
    data = {"version": version, "bounces": "2,5", "complaints": "", "an_hour": "1000"}
    assert client.post(f"/journeys/{journey}/safety", data=data).status_code == 303
    shown = client.get(f"/journeys/{journey}").text
    assert "when over 2.5% bounce or over 1,000 people come in within an hour" in shown
    wrong = client.post(f"/journeys/{journey}/safety", data=data | {"bounces": "many"})
    assert "Give a share in percent, like 0.5." in wrong.text
    reacts(database, "bounced", 10)
    looked(database, journey)
    assert "10 of 60 messages of a day bounced" in client.get("/").text
    assert "10 of 60 messages of a day bounced" in client.get(f"/journeys/{journey}").text


def test_it_is_copied_and_renamed(database, client, journey, still):
    sign_in(client)
    assert client.get(f"/journeys/{journey}/live").status_code == 200
    answer = client.post(f"/journeys/{journey}/copy", follow_redirects=True)
    assert "Copy of First weeks" in answer.text and "Draft" in answer.text
    with database.session() as session:
        made = queries.journey(session, journey + 1)
        assert (
            queries.draft(session, made).steps
            == queries.draft(session, queries.journey(session, journey)).steps
        )
    client.post(f"/journeys/{journey + 1}/rename", data={"name": " Second  weeks "})
    assert "Second weeks" in client.get("/journeys").text
    wrong = client.post(
        f"/journeys/{journey + 1}/rename", data={"name": " "}, follow_redirects=True
    )
    assert "Give the journey a name." in wrong.text
    with database.session() as session:
        assert session.scalar(sa.select(sa.func.count(Contact.id))) == PEOPLE
