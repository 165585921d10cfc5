"""A text message end to end: written, counted, sent, followed, answered with stop, reported as
failed."""

import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, signing
from meadowrun.gateways import sms
from meadowrun.gateways.handing import Handed, all_may_go
from meadowrun.messages import actions as messages
from meadowrun.people import actions as people
from meadowrun.people.models import Contact, Topic
from meadowrun.people.queries import dictionary
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA
from tests.store.sending import counts, run_all, start, texting
from tests.store.web import word, words
from tests.store.work import number_of


class Phones:
    at_once, can_be_asked = 5, False

    def __init__(self):
        self.texts = []

    def hand_over(self, messages, begin=all_may_go):
        for text in begin(list(messages)):
            self.texts.append(text)
            yield Handed(text.contact_id, "bounced" if text.to.endswith("000") else "delivered", "")

    def took(self, ids):
        return {}


@pytest.fixture
def phones(monkeypatch):
    made = Phones()
    monkeypatch.setattr(sms, "gateway", lambda settings: made)
    return made


def test_end_to_end(database, settings, job_context, phones, client):
    with clock.at(NOW), database.session() as session:
        ident = texting(session)
    start(database, settings, ident, 3)
    run_all(database, ident)
    assert counts(database, ident)[0] == {
        "delivered": 2,
        "bounced": 1,
        "duplicate": 1,
        "no_consent": 2,
        "no_address": 1,
    }
    ann = next(t for t in phones.texts if "Ann" in t.text)
    code = signing.short(
        settings.secret, number_of(database, ident, ann.contact_id), ann.contact_id
    )
    assert ann.to == "+447700900001"
    assert ann.text == f"Hi Ann, book: {settings.public_url}/s/{code}0. STOP ends these"
    # A click on the short link counts as one on the link of the edition, and leads where it led.
    with clock.at(NOW.replace(minute=NOW.minute + 5)):
        answer = client.get(f"/s/{code}0", headers={"User-Agent": "A phone"})
    assert (
        answer.status_code == 302
        and answer.headers["Location"] == "https://farrowhill.example/book"
    )
    assert client.get("/s/nonsense0").status_code == 404 and client.get("/s/").status_code == 404
    mark = signing.sign_text(settings.secret, "gateway", "sms")
    assert client.post(
        f"/gateway/sms/{mark}/inbound", json={"from": "+447700900001", "text": " Stop. "}
    ).json == {"understood": "stop"}
    assert client.post(
        f"/gateway/sms/{mark}/inbound", json={"from": "+447700900002", "text": "What is this?"}
    ).json == {"understood": ""}
    assert (
        client.post(
            "/gateway/sms/0000/inbound", json={"from": "+447700900002", "text": "stop"}
        ).status_code
        == 404
    )
    sent_by = {"Authorization": f"Bearer {mark}"}
    assert client.post(
        "/gateway/sms/inbound", json={"from": "+447700900002", "text": "What?"}, headers=sent_by
    ).json == {"understood": ""}
    for wrong in ({}, {"Authorization": "Bearer 0000"}, {"Authorization": mark[:-1]}):
        assert (
            client.post(
                "/gateway/sms/inbound",
                json={"from": "+447700900002", "text": "stop"},
                headers=wrong,
            ).status_code
            == 404
        )
    bo = next(t for t in phones.texts if "Bo" in t.text)
    client.post(
        f"/gateway/sms/{mark}/receipt",
        json={"id": bo.key, "status": "failed", "why": "switched off"},
    )
    with database.session() as session:
        reactions = {
            (r[0], r[1])
            for r in session.execute(
                sa.text(
                    "SELECT contact_id, kind FROM reactions JOIN sends s USING (dispatch_id) "
                    "WHERE s.id = :s"
                ),
                {"s": ident},
            )
        }
        assert reactions == {
            (ann.contact_id, "clicked"),
            (ann.contact_id, "unsubscribed"),
            (bo.contact_id, "bounced"),
        }
        # Both records with that number are off; email is another channel and stays as it was.
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM consents WHERE channel = 'sms' AND NOT agreed")
            ).scalar()
            == 3
        )
        assert (
            session.execute(
                sa.text("SELECT count(*) FROM consents WHERE channel = 'email' AND NOT agreed")
            ).scalar()
            == 0
        )
    assert counts(database, ident)[0]["delivered"] == 1


def test_a_text_about_a_topic_goes_to_those_who_did_not_say_no_to_it_by_text(
    database, settings, job_context, phones, web
):
    """Ann said no to the topic by text, Bo to it by email only, Ed yes to it by text and nothing to
    texts at all, Cy yes to it but no to texts."""
    with clock.at(NOW), database.session() as session:
        ident = texting(session)
        session.add(Topic(key="diary", name="Sky diary"))
        session.flush()
        topic = session.scalars(sa.select(Topic.id)).one()
        for name, agreed, channel in (
            ("Ann", False, "sms"),
            ("Bo", False, "email"),
            ("Ed", True, "sms"),
            ("Cy", True, "sms"),
        ):
            contact = session.scalars(sa.select(Contact.id).where(Contact.first_name == name)).one()
            people.set_consent(session, NOW, contact, topic, agreed, "test", channel)
    assert word(web, ident, "topic", database, topic=str(topic)).status_code == 303
    shown = words(web.get(f"/sends/{ident}").text)
    assert "about Sky diary and for everyone who agreed to it, or to all text messages" in shown
    assert "all text messages" in words(web.get(f"/sends/{ident}/word/topic").text)
    start(database, settings, ident, 2)
    run_all(database, ident)
    assert {t.text.split(",")[0] for t in phones.texts} == {"Hi Bo", "Hi Ed", "Hi Gus"}
    # Flo's number is Ann's, too, and Ann comes first: it gets nothing.
    assert counts(database, ident)[0] == {
        "delivered": 2,
        "bounced": 1,
        "duplicate": 1,
        "no_consent": 2,
        "no_address": 1,
    }
    assert "about Sky diary" in words(web.get(f"/sends/{ident}").text)


def test_what_is_written_stands_in_its_place_without_a_blank_more(web, database):
    """Blanks count in a text: the place it is written in holds it and nothing of the page."""
    with clock.at(NOW), database.session() as session:
        ident = texting(session, "Two lines,\nthe second. STOP")
        message_id = session.get_one(Send, ident).message_id
    page = web.get(f"/messages/{message_id}/text").text
    assert re.search(r"data-multi[^>]*>([^<]*)</div>", page)[1] == "Two lines,\nthe second. STOP"


def typed(text):
    return {"do": "set", "line": "", "slot": "plain", "value": text}


def test_the_page_counts_parts_for_the_longest_name(web, database):
    with clock.at(NOW), database.session() as session:
        ident = texting(session, "{{ contact.first_name }}" + "a" * 145 + " STOP")
        message_id = session.get_one(Send, ident).message_id
    page = web.get(f"/messages/{message_id}", follow_redirects=True).text
    assert "1 part" in page
    with database.session() as session:
        people.save_contact(
            session, IDA, NOW, {"email": "long@post.example", "first_name": "Bartholomew-Alexander"}
        )
    assert "2 parts" in web.get(f"/messages/{message_id}/text").text
    answer = web.post(
        f"/messages/{message_id}/text",
        json={"changes": [typed("It’s on tonight. STOP"), {"do": "plainer"}], "version": 1},
    )
    assert answer.json["document"]["plain"] == "It's on tonight. STOP"
    assert "It&#39;s on tonight" in answer.json["lines"]
    read = web.get(f"/messages/{message_id}/text/read").json
    assert read["parts"] == 1 and read["alphabet"] == "GSM-7" and read["left"] == 160 - 21
    wrong = web.post(
        f"/messages/{message_id}/text",
        json={"changes": [typed("{{ nonsense")], "version": 2},
        headers={"Accept": "application/json"},
    )
    assert wrong.status_code == 422 and "{{" in wrong.json["error"]
    with database.session() as session:
        assert (
            dictionary(session)
            and session.get_one(messages.Message, message_id).document["plain"]
            == "It's on tonight. STOP"
        )
