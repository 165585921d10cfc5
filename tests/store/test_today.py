"""Today says what waits for whom: reviews for approvers, what came back for authors, doubts; programs do not fill the list of changes."""

import pytest
import sqlalchemy as sa

from meadowrun.base import audit, clock
from meadowrun.base.audit import Actor
from meadowrun.messages import actions
from meadowrun.messages.models import Message, Review
from meadowrun.shell import accounts
from tests.conftest import NOW
from tests.store.people import ready_send
from tests.store.web import sign_in, words


@pytest.fixture
def asked(database, client):
    """The author asked the approver to read a message. → the message's number"""
    with clock.at(NOW), database.session() as session:
        approver = accounts.add_user(session, NOW, "approver@farrowhill.example", "Approver", "approver", "a long password")
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


def test_a_review_waits_for_the_one_who_was_asked_and_comes_back_to_the_author(asked, client, database):
    text, number = today(client, "approver")
    assert "Waits for you Author asks you to read draft 1 of" in text and number == "1"
    assert "Waits for you" not in today(client, "author")[0] and "Waits for you" not in today(client, "viewer")[0]
    sign_in(client, "approver")
    with database.session() as session:
        review = session.scalars(sa.select(Review)).one()
    client.post(f"/messages/{asked}/review/{review.id}", data={"answer": "back", "note": "Name the day.", "content": review.content})
    assert "Waits for you" not in today(client, "approver")[0]
    text, number = today(client, "author")
    assert "Approver sent back draft 1 of" in text and "Name the day." in text and number == "1"


def test_the_number_stands_on_every_page(asked, client):
    sign_in(client, "approver")
    assert 'class="waits">1<' in client.get("/people").text


def test_what_programs_change_does_not_crowd_out_what_people_did(client, database):
    with clock.at(NOW), database.session() as session:
        audit.record(session, Actor(1, "Admin", "admin"), NOW, "named", "segment", 1, "Hill people")
        for n in range(20):
            audit.record(session, Actor(None, "API key “Till”", "admin"), NOW, "changed", "contact", n, f"Contact {n}")
    text, _ = today(client, "admin")
    assert "named the segment “Hill people”" in text and "Till" not in text
