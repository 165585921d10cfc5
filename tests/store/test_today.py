"""Today says what waits for whom: reviews for approvers, what came back for authors, doubts;
programs do not fill the list of changes."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import audit, clock
from meadowrun.base.audit import Actor
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import Goal, Itinerary
from meadowrun.journeys import actions as journeys
from meadowrun.journeys.models import JourneyEdition
from meadowrun.messages import actions
from meadowrun.messages.models import Message, Review
from meadowrun.sends.models import Send
from meadowrun.shell import accounts
from tests.conftest import NOW
from tests.store.people import IDA, add, ready_send
from tests.store.web import sign_in, words
from tests.store.work import delivered, dispatched


@pytest.fixture
def asked(database, client):
    """The author asked the approver to read a message. → the message's number"""
    with clock.at(NOW), database.session() as session:
        approver = accounts.add_user(
            session, NOW, "approver@farrowhill.example", "Approver", "approver", "a long password"
        )
        ready_send(session, NOW, {"segments": [], "lists": [], "minus": []})
        message = session.scalars(sa.select(Message)).first()
        author = session.scalar(sa.text("SELECT id FROM users WHERE name = 'Author'"))
        actions.ask_review(session, Actor(author, "Author", "author"), NOW, message, approver.id)
        return message.id


def today(client, who):
    sign_in(client, who)
    html = client.get("/").text
    number = html.partition('class="waits">')[2].partition("<")[0]
    return words(html), number


def test_a_review_waits_for_the_one_who_was_asked_and_comes_back_to_the_author(
    asked, client, database
):
    text, number = today(client, "approver")
    assert "Waiting for you Author asks you to read draft 1 of" in text and number == "1"
    assert (
        "Waiting for you" not in today(client, "author")[0]
        and "Waiting for you" not in today(client, "viewer")[0]
    )
    sign_in(client, "approver")
    with database.session() as session:
        review = session.scalars(sa.select(Review)).one()
    client.post(
        f"/messages/{asked}/review/{review.id}",
        data={"answer": "back", "note": "Name the day.", "content": review.content},
    )
    assert "Waiting for you" not in today(client, "approver")[0]
    text, number = today(client, "author")
    assert "Approver sent back draft 1 of" in text and "Name the day." in text and number == "1"


def test_the_number_stands_on_every_page(asked, client):
    sign_in(client, "approver")
    assert 'class="waits">1<' in client.get("/people").text


def test_what_programs_change_does_not_crowd_out_what_people_did(client, database):
    with clock.at(NOW), database.session() as session:
        audit.record(session, Actor(1, "Admin", "admin"), NOW, "named", "segment", 1, "Hill people")
        for n in range(20):
            audit.record(
                session,
                Actor(None, "API key “Till”", "admin"),
                NOW,
                "changed",
                "contact",
                n,
                f"Contact {n}",
            )
    text, _ = today(client, "admin")
    assert "named the segment “Hill people”" in text and "Till" not in text


def test_a_send_that_goes_out_is_shown_to_whom_something_waits_for(
    asked, client, database, settings, job_context
):
    """Who waits for a later moment stands on its page, with the reason; what waits for its reader
    is another thing."""
    with clock.at(NOW), database.session() as session:
        send = session.scalars(sa.select(Send)).first()
        for number, because in enumerate((None, "feed", "feed")):
            contact = add(session, NOW, f"p{number}@post.example")
            if send.dispatch_id is None:
                dispatched(session, send, NOW)
            ident = delivered(session, send, contact.id, "waiting" if because else "deferred")
            session.execute(
                sa.text(
                    "UPDATE deliveries SET due = :due, stood_on = "
                    "jsonb_build_object('because', "
                    "CAST(:b AS text)) WHERE number = :n"
                ),
                {"due": NOW + dt.timedelta(minutes=15 + number // 2), "b": because, "n": ident},
            )
        send.state = "running"
        session.execute(sa.text("UPDATE dispatches SET size = 3"))
    with clock.at(NOW):
        sign_in(client, "approver")
        page = words(client.get(f"/sends/{send.id}").text)
    assert "1 person waits until today, 14:15: the gateway asked to try again later." in page
    assert "1 person waits until today, 14:15: a feed does not answer." not in page
    assert "2 people wait, the first until today, 14:15: a feed does not answer." in page
    assert "waiting for you" in client.get("/").text.lower()


#: People who came into the journey and reached its goal, by how many days ago; None: they did not.
WALKED = ((1, 0.5), (6, None), (8, 2), (13, 12), (20, 19))


def test_how_the_week_of_each_journey_went(client, database, job_context):
    """Two came in within the week and two within the one before; two and one reached the goal."""
    with clock.at(NOW), database.session() as session:
        ready_send(session, NOW, {"in": [], "out": []})
        campaign = session.scalars(sa.select(Campaign)).first()
        aim = Itinerary(goal=Goal("ticket_bought", 30))
        for name, itinerary in (("With a goal", aim), ("Without", Itinerary())):
            made = journeys.create(session, IDA, NOW, campaign, name, itinerary)
            made.state, made.edition, made.started_at = "running", 1, NOW
            session.flush()
            session.add(
                JourneyEdition(
                    journey_id=made.id, number=1, itinerary=to_json(itinerary), by="Ida", at=NOW
                )
            )
            for place, (came, reached) in enumerate(WALKED):
                session.execute(
                    sa.text(ENTRY),
                    {
                        "journey": made.id,
                        "contact": place,
                        "began": NOW - dt.timedelta(days=came),
                        "goal": None if reached is None else NOW - dt.timedelta(days=reached),
                        "tester": False,
                    },
                )
            # A tester is in no figure.
            tested = {"began": NOW, "goal": NOW, "tester": True}
            session.execute(sa.text(ENTRY), {"journey": made.id, "contact": 99, **tested})
    with clock.at(NOW):
        text = today(client, "viewer")[0]
    assert "With a goal Running 5 2 2 2 1" in text
    assert "Without Running 5 2 2 no goal set" in text


ENTRY = """
INSERT INTO journey_entries (journey_id, contact_id, began_at, goal_at, tester, step, arrived_at,
    phase, state)
VALUES (:journey, :contact, :began, :goal, :tester, 's1', :began, 'waiting', 'inside')
"""
