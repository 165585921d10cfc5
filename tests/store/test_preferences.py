"""What people choose on the page that each email leads to."""

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.people import actions as people
from meadowrun.people.models import Consent, Contact, Topic
from tests.store.tracked import NOW, token
from tests.store.web import flat


def test_preferences(database, settings, sent):
    key = token(settings, sent, "ann", "choose")
    assert b"What you get from us" in sent[2].get(f"/p/{key}").data
    sent[2].post(f"/p/{key}", data={"everything": "stop"})
    with database.session() as session:
        assert session.get(Consent, (sent[1]["ann"], "email", 0)).agreed is False


def test_preferences_where_there_are_no_topics(database, settings, sent):
    """One box for all that is written; sending it back as it was shown changes nothing."""
    key, ann = token(settings, sent, "ann", "choose"), sent[1]["ann"]

    def history():
        with database.session() as session:
            return session.scalars(
                sa.text(
                    "SELECT agreed FROM consent_changes WHERE contact_id = :id AND channel = "
                    "'email' ORDER BY at, id"
                ),
                {"id": ann},
            ).all()

    before = history()
    assert 'name="topic" value="0" checked>' in flat(sent[2].get(f"/p/{key}").text)
    sent[2].post(f"/p/{key}", data={"topic": ["0"]})
    assert history() == before
    sent[2].post(f"/p/{key}", data={})
    assert 'name="topic"' not in (
        shown := sent[2].get(f"/p/{key}").text
    ) and 'name="wish" value="0"' in flat(shown)
    sent[2].post(f"/p/{key}", data={"topic": ["0"]})
    assert history() == [*before, False], "an email can be passed on: a link in it gives no consent"


def test_preferences_of_other_channels(database, settings, sent):
    """Shown are those that concern somebody; what they got and unticked is a no, and nothing is
    ever a yes."""
    ann, key = sent[1]["ann"], token(settings, sent, "ann", "choose")
    asked = sa.text(
        "SELECT channel, agreed FROM consents WHERE contact_id = :id AND channel <> 'email'"
    )

    def said():
        with database.session() as session:
            return dict(session.execute(asked, {"id": ann}).all())

    assert b'name="channel"' not in sent[2].get(f"/p/{key}").data
    with clock.at(NOW), database.session() as session:
        session.get_one(Contact, ann).phone = "+44 7700 900101"
        people.set_consent(session, NOW, ann, 0, True, "in a browser", "push")
    shown = flat(sent[2].get(f"/p/{key}").text)
    assert (
        "You also do not get: Text messages" in shown
        and 'value="push:0" checked>' in shown
        and 'value="in_app:0"' not in shown
    )
    sent[2].post(f"/p/{key}", data={"topic": ["0"], "channel": ["sms:0", "push:0"]})
    assert said() == {"push": True}, "never asked about texts, and a form says nothing about that"
    with database.session() as session:
        people.set_consent(session, NOW, ann, 0, True, "at the desk", "sms")
    shown = flat(sent[2].get(f"/p/{key}").text)
    assert (
        "to<b>+44…01</b>" in shown
        and "a…@post.example" in shown
        and "ann@" not in shown
        and "900101" not in shown
    )
    sent[2].post(f"/p/{key}", data={"topic": ["0"], "channel": ["sms:0"]})
    assert said() == {"sms": True, "push": False}
    sent[2].post(f"/p/{key}", data={"topic": ["0"], "channel": ["sms:0", "push:0"]})
    assert said() == {"sms": True, "push": False}
    sent[2].post(f"/p/{key}", data={"everything": "stop", "channel": ["sms:0"]})
    assert said() == {"sms": False, "push": False}


def test_consent_by_channel_is_written_down_and_asked_for(database, settings, sent):
    """By the API and on the contact's page, also of a topic by another channel; what does not exist
    is refused."""

    def put(**consent):
        return sent[2].put(
            "/api/v1/contacts",
            json={"email": "ann@post.example", "consent": {"how": "at the desk", **consent}},
            headers={"Authorization": "Bearer key_secret"},
        )

    assert put(agreed=True, channel="sms").status_code == 200
    found = {c["topic"]: c for c in put(agreed=False, channel="in_app").json["consent"]}
    assert found["Text messages"] == {
        "channel": "sms",
        "topic": "Text messages",
        "agreed": True,
        "how": "at the desk",
    }
    assert (
        found["In-app messages"]["agreed"],
        found["Push notifications"]["agreed"],
        found["All email"]["agreed"],
    ) == (False, None, True)
    assert put(agreed=True, channel="post").json["where"] == "consent.channel"
    assert put(agreed=True, channel="sms", topic="news").json["where"] == "consent.topic"
    with database.session() as session:
        session.add(Topic(key="news", name="News"))
    found = {
        c["topic"]: c["agreed"]
        for c in put(agreed=False, channel="sms", topic="news").json["consent"]
    }
    assert (
        found["News in text messages"] is False
        and found["Text messages"] is True
        and "News in push notifications" not in found
    )
    for rubbish, where in (
        ({"channel": ["sms"]}, "consent.channel"),
        ({"channel": {}}, "consent.channel"),
        ({"channel": None}, "consent.channel"),
        ({"topic": ["news"]}, "consent.topic"),
        ({"topic": {"a": 1}}, "consent.topic"),
        ({"topic": 7}, "consent.topic"),
    ):
        assert (
            put(agreed=True, **rubbish).status_code,
            put(agreed=True, **rubbish).json["where"],
        ) == (422, where)


def test_preferences_topic_by_topic(database, settings, sent):
    """Unticking what was never asked about is a no; a no to everything is not lifted by a link."""
    with database.session() as session:
        session.add_all([Topic(key=k, name=k.title()) for k in ("diary", "news", "nights")])
        session.flush()
        diary, news, nights = (
            session.scalars(sa.select(Topic.id).where(Topic.key == k)).one()
            for k in ("diary", "news", "nights")
        )
    key, ann = token(settings, sent, "ann", "choose"), sent[1]["ann"]

    def said():
        with database.session() as session:
            return {
                c.topic_id: c.agreed
                for c in session.scalars(sa.select(Consent).where(Consent.contact_id == ann))
            }

    sent[2].post(f"/p/{key}", data={"topic": [str(diary), str(nights)]})
    assert said() == {0: True, news: False}
    sent[2].post(f"/p/{key}", data={"everything": "stop"})
    assert said() == {0: False, news: False}
    sent[2].post(f"/p/{key}", data={"topic": [str(news), str(diary)]})
    assert said() == {0: False, news: False}


def test_a_topic_of_another_channel_is_chosen_once_something_was_said_of_it(
    database, settings, sent
):
    with database.session() as session:
        session.add(Topic(key="diary", name="Diary"))
        session.flush()
        topic, ann = session.scalars(sa.select(Topic.id)).one(), sent[1]["ann"]
        people.set_consent(session, NOW, ann, 0, True, "test", "sms")
    key = token(settings, sent, "ann", "choose")
    assert "Diary in text messages" not in sent[2].get(f"/p/{key}").text
    with database.session() as session:
        people.set_consent(session, NOW, ann, topic, True, "test", "sms")
    assert "Diary in text messages" in sent[2].get(f"/p/{key}").text
    sent[2].post(f"/p/{key}", data={"topic": [str(topic)], "channel": ["sms:0"]})
    with database.session() as session:
        said = {
            (c.channel, c.topic_id): c.agreed
            for c in session.scalars(sa.select(Consent).where(Consent.contact_id == ann))
        }
    assert said == {("email", 0): True, ("sms", 0): True, ("sms", topic): False}
