"""What comes back: by HTTP through the real application, by mail through the real listener's
reader."""

import base64
import dataclasses
import datetime as dt
import email.policy
import hmac
import importlib.util
import json
import pathlib
import re
from email.message import EmailMessage

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, signing
from meadowrun.base.errors import Invalid
from meadowrun.gateways import smtp
from meadowrun.people import actions as people
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Consent, Contact, Suppression, Topic
from meadowrun.results.queries import count_behind, people_behind, result
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from meadowrun.shell.keys import hash_key
from meadowrun.shell.models import ApiKey
from meadowrun.tracking import inbound, taking
from meadowrun.village.post import complain, return_mail
from tests import conftest
from tests.ports import own_port
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.sending import Keeper, run_all, segment
from tests.store.web import app_of, flat
from tests.store.work import number_of

#: A week before the rest: the listener has a thread of its own, where the clock cannot be held
#: still.
NOW = conftest.NOW - dt.timedelta(days=7)

ROOT = pathlib.Path(__file__).resolve().parents[2]
READER = {"User-Agent": "Post reader 3"}


@pytest.fixture
def sent(database, settings, job_context, monkeypatch):
    """A send of which five people got the mail: (send's number, {name: contact's number}, the
    application's client, {name: the number of the delivery})."""
    keeper = Keeper()
    monkeypatch.setattr(smtp, "gateway", lambda settings, signer=None, route="first": keeper)
    with clock.at(NOW), database.session() as session:
        kinds(session)
        who = {
            n: add(session, NOW, f"{n}@post.example", first_name=n, town="a b&c").id
            for n in ("ann", "ben", "cleo", "dov", "edda")
        }
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        session.add(
            ApiKey(
                name="site",
                kind="site",
                key_hash="site_x",
                origins=["https://farrowhill.example"],
                created_at=NOW,
            )
        )
        session.add(
            ApiKey(name="till", kind="secret", key_hash=hash_key("key_secret"), created_at=NOW)
        )
        ident = send.id
        sends.start(session, IDA, NOW, send, settings.public_url, 5, send.version)
    run_all(database, ident, NOW)
    with clock.at(NOW + dt.timedelta(hours=1)):
        numbers = {name: number_of(database, ident, contact) for name, contact in who.items()}
        yield ident, who, app_of(settings, database).test_client(), numbers


def token(settings, sent, name, purpose):
    return signing.make(settings.secret, purpose, sent[3][name], sent[1][name])


def outcome(database, sent):
    with database.session() as session:
        return result(session, session.get_one(Send, sent[0]), NOW + dt.timedelta(hours=2))


def test_opens_of_people_and_of_programs_apart(database, settings, sent):
    client = sent[2]
    for _ in range(2):
        assert client.get(
            f"/o/{token(settings, sent, 'ann', 'open')}", headers=READER
        ).data.startswith(b"GIF89a")
    client.get(
        f"/o/{token(settings, sent, 'ben', 'open')}", headers={"User-Agent": "Mail image proxy"}
    )
    with clock.at(NOW + dt.timedelta(seconds=1)):
        client.get(f"/o/{token(settings, sent, 'cleo', 'open')}", headers=READER)
    client.get(f"/o/{token(settings, sent, 'dov', 'open')}", headers={"User-Agent": ""})
    client.get("/o/forged", headers=READER)
    client.get(f"/o/{token(settings, sent, 'edda', 'open')[:-2]}xx", headers=READER)
    found = outcome(database, sent)
    assert (found.opened, found.machine_only) == (1, 3)


def test_clicks_lead_where_the_edition_says_and_nowhere_else(database, settings, sent):
    client = sent[2]
    answer = client.get(
        f"/c/{token(settings, sent, 'ann', 'click')}/0?to=https://evil.example", headers=READER
    )
    assert answer.status_code == 302 and answer.location.startswith(
        "https://farrowhill.example/book?mr="
    )
    assert client.get(
        f"/c/{token(settings, sent, 'ann', 'click')}/1", headers=READER
    ).location.startswith("https://farrowhill.example/more?x=a%20b%26c&mr=")
    assert (
        client.get(f"/c/{token(settings, sent, 'ann', 'click')}/9", headers=READER).status_code
        == 404
    )
    assert client.get("/c/forged/0", headers=READER).status_code == 404
    assert (
        client.get(
            f"/c/{signing.make('other' * 9, 'click', sent[3]['ann'], sent[1]['ann'])}/0",
            headers=READER,
        ).status_code
        == 404
    )
    found = outcome(database, sent)
    assert (found.clicked, found.opened) == (1, 1), "a click counts as an opening"
    assert [(x.number, x.people, x.clicks) for x in found.links] == [(0, 1, 1), (1, 1, 1)]


def test_a_scanner_that_follows_everything_is_no_person(database, settings, sent):
    key = token(settings, sent, "ben", "click")
    for number in (0, 1):
        sent[2].get(f"/c/{key}/{number}", headers={"User-Agent": "Link scanner"})
    assert outcome(database, sent).clicked == 0


def test_following_the_way_out_takes_nobody_off_pressing_the_button_does(database, settings, sent):
    key = token(settings, sent, "ann", "leave")
    assert b"No more" in sent[2].get(f"/u/{key}").data
    assert outcome(database, sent).unsubscribed == 0
    assert sent[2].post(f"/u/{key}").status_code == 200
    assert (
        sent[2]
        .post(f"/u/{token(settings, sent, 'ben', 'leave')}", data={"List-Unsubscribe": "One-Click"})
        .status_code
        == 200
    )
    assert sent[2].post(f"/u/{key}").status_code == 200
    assert outcome(database, sent).unsubscribed == 2
    with database.session() as session:
        said = dict(
            session.execute(
                sa.select(Consent.contact_id, Consent.how).where(Consent.agreed.is_(False))
            ).all()
        )
    assert said == {
        sent[1]["ann"]: "on the page, from “A send”",
        sent[1]["ben"]: "with one click in the mail app, from “A send”",
    }


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


def test_each_link_is_good_for_its_own_purpose_only(database, settings, sent):
    """Who holds one link of an email can do with it what it is for: no click link unsubscribes, no
    opening shows what somebody gets."""
    client, ann = sent[2], sent[1]["ann"]
    asked = {
        "click": "/c/{}/0",
        "open": "/o/{}",
        "leave": "/u/{}",
        "choose": "/p/{}",
        "page": "/n/{}",
    }

    def works(purpose, path):
        before = outcome(database, sent)
        answer = client.get(path.format(token(settings, sent, "ann", purpose)), headers=READER)
        return (
            answer.status_code in (200, 302)
            if "/o/" not in path
            else outcome(database, sent).opened > before.opened
        )

    worked = {
        (purpose, other)
        for purpose in signing.PURPOSES
        for other, path in asked.items()
        if works(purpose, path)
    }
    # This email has no page of a push notification; its opening is counted once, and a click that
    # came first
    # counts as one.
    assert worked == {("click", "click"), ("leave", "leave"), ("choose", "choose")}
    for purpose in set(signing.PURPOSES) - {"leave"}:
        assert client.post(f"/u/{token(settings, sent, 'ann', purpose)}").status_code == 404
    for purpose in set(signing.PURPOSES) - {"choose"}:
        assert (
            client.post(
                f"/p/{token(settings, sent, 'ann', purpose)}", data={"everything": "stop"}
            ).status_code
            == 404
        )
    for purpose in set(signing.PURPOSES) - {"bounce"}:
        assert (
            signing.read(settings.secret, "bounce", token(settings, sent, "ann", purpose)) is None
        )
    with database.session() as session:
        assert session.get(Consent, (ann, "email", 0)).agreed is True


def test_what_left_before_purposes_were_told_apart_still_leads_where_it_did(
    database, settings, sent
):
    body = sent[3]["ann"].to_bytes(6, "big") + sent[1]["ann"].to_bytes(6, "big")
    mac = hmac.digest(f"delivery:{settings.secret}".encode(), body, "sha256")[:8]
    old = base64.urlsafe_b64encode(body + mac).rstrip(b"=").decode()
    for path in (f"/c/{old}/0", f"/o/{old}", f"/u/{old}", f"/p/{old}"):
        assert sent[2].get(path, headers=READER).status_code in (200, 302)
    assert signing.read(settings.secret, "in_app", old) is None


def test_what_was_compiled_before_purposes_were_told_apart_is_carried_over(
    database, settings, sent
):
    spec = importlib.util.spec_from_file_location(
        "links_by_purpose", next(ROOT.glob("migrations/versions/0028_*.py"))
    )
    step = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(step)
    with database.session() as session:
        compiled = session.scalars(sa.text("SELECT compiled FROM editions")).one()
        before = re.sub(r"\{\{ token\.\w+ \}\}", "{{ token }}", json.dumps(compiled))
        assert before.count("{{ token }}") >= 4
        session.execute(sa.text("UPDATE editions SET compiled = CAST(:c AS jsonb)"), {"c": before})
        for path, purpose in step.PLACES.items():
            session.execute(
                sa.text(step.REPLACE),
                {
                    "before": f"/{path}/{{{{ token }}}}",
                    "after": f"/{path}/{{{{ token.{purpose} }}}}",
                },
            )
        assert session.scalars(sa.text("SELECT compiled FROM editions")).one() == compiled


def test_a_visitors_sign_ends_with_its_time(database, settings, sent):
    """That in an address holds for the first page; that which a browser keeps until it was away for
    long."""
    ann, client = sent[1]["ann"], sent[2]
    target = client.get(f"/c/{token(settings, sent, 'ann', 'click')}/0", headers=READER).location
    arriving = re.search(r"mr=([^&]+)", target)[1]

    def tell(visitor, later):
        with clock.at(NOW + dt.timedelta(hours=1) + later):
            return client.post(
                "/site/events",
                headers={"Origin": "https://farrowhill.example"},
                json={"key": "site_x", "visitor": visitor, "event": "page_viewed", "details": {}},
            )

    kept = tell(arriving, dt.timedelta(minutes=2)).json["visitor"]
    assert kept != arriving and kept.startswith(f"{ann}.")
    assert tell(arriving, dt.timedelta(minutes=16)).status_code == 422
    renewed = tell(kept, dt.timedelta(days=89)).json["visitor"]
    assert tell(kept, dt.timedelta(days=91)).status_code == 422
    assert tell(renewed, dt.timedelta(days=91)).status_code == 200
    longer = re.sub(r"\.(\d+)\.", lambda m: f".{int(m[1]) + 10**6}.", kept)
    assert tell(longer, dt.timedelta(minutes=2)).status_code == 422, "its end is signed as well"


def reports(database, settings, sent, name, what):
    """Sends a report as the village does, and reads it as the listener does."""
    original = EmailMessage()
    original["Subject"] = "Hello"
    original.set_content("x")
    raw = original.as_bytes(policy=email.policy.SMTP)
    port = own_port()
    office = inbound.listener(database, dataclasses.replace(settings, inbound=("127.0.0.1", port)))
    office.start()
    try:
        path = f"bounce+{token(settings, sent, name, 'bounce')}@mail.example"
        if what == "return":
            return_mail("127.0.0.1", port, path, f"{name}@post.example", raw)
        else:
            complain("127.0.0.1", port, path, raw)
    finally:
        office.stop()


def test_a_mail_that_comes_back_is_a_bounce_and_stops_the_next(database, settings, sent):
    reports(database, settings, sent, "ann", "return")
    found = outcome(database, sent)
    assert found.tally == {"delivered": 4, "bounced": 1} and found.audience == 5
    with database.session() as session:
        assert session.get(Contact, sent[1]["ann"]).bounced_at is not None


def test_a_complaint_suppresses(database, settings, sent):
    reports(database, settings, sent, "ben", "complain")
    assert outcome(database, sent).complained == 1
    with database.session() as session:
        assert session.get(Suppression, "ben@post.example").reason == "complained about an email"
        assert session.get(Consent, (sent[1]["ben"], "email", 0)).agreed is False


@pytest.mark.parametrize(
    ("raw", "said"),
    [
        (b"Subject: hi\r\n\r\nhello", None),
        (b"", None),
        (b"\xff\xfe\x00rubbish", None),
        (
            b'Content-Type: multipart/report; boundary="x"\r\n\r\n--x\r\nContent-Type: '
            b"message/delivery-status\r\n\r\nA: b\r\n\r\n"
            b"Action: failed\r\nStatus: 4.2.2\r\nDiagnostic-Code: smtp; full\r\n--x--",
            ("bounce", False, "full"),
        ),
        (
            b'Content-Type: multipart/report; boundary="x"\r\n\r\n--x\r\nContent-Type: '
            b"message/delivery-status\r\n\r\nA: b\r\n\r\n"
            b"Action: delivered\r\nStatus: 2.0.0\r\n--x--",
            None,
        ),
    ],
)
def test_reports_are_read(raw, said):
    assert inbound.read_report(raw) == said


class TestEvents:
    AUTH = {"Authorization": "Bearer key_secret"}

    def post(self, sent, *events, headers=None):
        return sent[2].post(
            "/api/v1/events",
            json={"events": list(events)},
            headers=self.AUTH if headers is None else headers,
        )

    def test_a_batch_is_stored_once_by_id(self, database, settings, sent):
        one = {
            "event": "ticket_bought",
            "email": "ANN@post.example",
            "id": "t-1",
            "details": {"amount": 24},
        }
        assert self.post(sent, one, one, {**one, "id": "t-2"}).json == {
            "stored": 2,
            "known_before": 1,
            "newcomers": 0,
            "aside": [],
        }
        assert self.post(sent, one).json == {
            "stored": 0,
            "known_before": 1,
            "newcomers": 0,
            "aside": [],
        }
        found = outcome(database, sent)
        assert (found.converted, found.amount) == (1, 48.0)

    def test_ids_of_any_signs_are_kept_apart_and_counted_once(self, database, settings, sent):
        """What COPY would take for a cell's end, other scripts, and ids of which one begins the
        other."""
        ids = ["a", "a\tb", "a\nb", "a\\b", "a\\tb", "\\N", "\\.", "ключ", "a b", "'", "x" * 200]
        events = [{"event": "ticket_bought", "email": "ann@post.example", "id": i} for i in ids]
        assert self.post(sent, *events).json["stored"] == len(ids)
        assert self.post(sent, *reversed(events)).json == {
            "stored": 0,
            "known_before": len(ids),
            "newcomers": 0,
            "aside": [],
        }
        # One that is known among new ones, one without an id, one twice.
        mixed = [
            events[3],
            {**events[0], "id": "new"},
            {k: v for k, v in events[0].items() if k != "id"},
            {**events[0], "id": "new"},
        ]
        assert self.post(sent, *mixed).json == {
            "stored": 2,
            "known_before": 2,
            "newcomers": 0,
            "aside": [],
        }
        with database.session() as session:
            assert (
                session.execute(sa.text("SELECT count(*) FROM event_receipts")).scalar()
                == len(ids) + 1
            )
            taken = taking.take_events(session, NOW, "key:other", events)
            assert taken.stored == len(ids), "another sender's ids are their own"

    def test_success_counts_within_its_span_and_from_the_mail_on(self, database, settings, sent):
        early, late, last = (
            NOW - dt.timedelta(minutes=1),
            NOW + dt.timedelta(days=7, seconds=1),
            NOW + dt.timedelta(hours=20),
        )
        with clock.at(NOW + dt.timedelta(days=8)):
            for name, at in (("ann", early), ("ben", late), ("cleo", last)):
                assert (
                    self.post(
                        sent,
                        {
                            "event": "ticket_bought",
                            "email": f"{name}@post.example",
                            "at": at.isoformat(),
                        },
                    ).status_code
                    == 200
                )
        assert outcome(database, sent).converted == 1

    def test_unknown_kinds_details_and_people_are_taken_in_without_consent(
        self, database, settings, sent
    ):
        assert (
            self.post(
                sent,
                {"event": "kite_flown", "email": "new@post.example", "details": {"height": 30}},
            ).json["newcomers"]
            == 1
        )
        with database.session() as session:
            made = session.scalars(
                sa.select(Contact).where(Contact.email_key == "new@post.example")
            ).one()
            assert (
                session.scalars(sa.select(Consent).where(Consent.contact_id == made.id)).all() == []
            )

    @pytest.mark.parametrize(
        ("event", "where"),
        [
            ({"event": "Bad Name", "email": "a@b.example"}, "events[0].event"),
            ({"event": "x"}, "events[0]"),
            ({"event": "x", "email": "nope"}, "events[0].email"),
            ({"event": "x", "contact": 99}, "events[0].contact"),
            ({"event": "x", "contact": 10**30}, "events[0].contact"),
            ({"event": "x", "contact": -1}, "events[0].contact"),
            ({"event": "x", "contact": 1, "at": "yesterday"}, "events[0].at"),
            ({"event": "x", "contact": 1, "at": "2026-11-23"}, "events[0].at"),
            ({"event": "x", "contact": 1, "at": "2999-01-01T00:00:00Z"}, "events[0].at"),
            ({"event": "x", "contact": 1, "details": []}, None),
            ({"event": "x", "contact": 1, "id": ""}, "events[0].id"),
            ("x", "events[0]"),
            ({"event": "x", "contact": 1, "id": "a\0b"}, "events[0].id"),
            ({"event": "x", "contact": 1, "id": "\ud800"}, "events[0].id"),
            ({"event": "x", "contact": True}, "events[0]"),
            ({"event": "x", "contact": 1, "at": 7}, "events[0].at"),
            ({"event": "x", "contact": 1, "details": {"a": "\0"}}, "events[0].details"),
        ],
    )
    def test_rubbish_is_refused_with_its_place(self, settings, sent, event, where):
        answer = self.post(sent, event)
        if where is None:
            assert answer.status_code == 200
        else:
            assert (answer.status_code, answer.json["where"]) == (422, where)

    def test_a_batch_with_one_bad_event_leaves_nothing_behind(self, database, sent):
        """Also where the bad one is only found while the receipts of the others are being stored,
        or one of these was known."""
        good = [
            {"event": "ticket_bought", "contact": sent[1]["ann"], "id": f"g{n}"} for n in range(3)
        ]
        bad = {"event": "ticket_bought", "contact": sent[1]["ann"], "id": "bad", "at": "yesterday"}
        nobody = bad | {"at": None, "contact": 99}
        with database.session() as session:
            taking.take_events(session, NOW, "x", good[:1])
            for batch, why in (
                ([*good, bad], ".at"),
                ([*good[1:], bad], ".at"),
                ([*good[1:], nobody], ": there is no contact 99"),
            ):
                with pytest.raises(Invalid, match=rf"events\[{len(batch) - 1}\]{re.escape(why)}"):
                    taking.take_events(session, NOW, "x", batch)
            assert taking.take_events(session, NOW, "x", good) == taking.Taken(2, 1, 0)
            assert (
                session.execute(
                    sa.text("SELECT count(*) FROM event_receipts WHERE key = 'x/bad'")
                ).scalar()
                == 0
            )

    def test_an_event_of_a_contact_that_was_merged_is_the_others(self, database, sent):
        ann, ben = sent[1]["ann"], sent[1]["ben"]
        with database.session() as session:
            merge(session, IDA, NOW, ann, ben, set())
        assert (
            self.post(sent, {"event": "ticket_bought", "contact": ben, "id": "late"}).json["stored"]
            == 1
        )
        with database.session() as session:
            assert session.execute(sa.text("SELECT contact_id FROM events")).scalars().all() == [
                ann
            ]

    def test_without_a_key_nothing_is_taken(self, sent):
        for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": "Bearer site_x"}):
            assert self.post(sent, {"event": "x", "contact": 1}, headers=headers).status_code == 403

    def test_a_website_tells_only_of_visitors_that_carry_our_sign(self, database, settings, sent):
        ann = sent[1]["ann"]
        sign = signing.visitor(settings.secret, ann, NOW)

        def tell(
            origin="https://farrowhill.example",
            visitor=sign,
            key="site_x",
            event="ticket_bought",
            **details,
        ):
            return sent[2].post(
                "/site/events",
                data=json.dumps(
                    {
                        "key": key,
                        "visitor": visitor,
                        "event": event,
                        "details": details or {"amount": 8},
                    }
                ),
                headers={"Origin": origin},
            )

        told = tell().json
        assert (told["stored"], told["in_app"]) == (1, None)
        assert tell(event="page_viewed", visitor=told["visitor"]).status_code == 200, (
            "the browser is known by what it was given"
        )
        assert tell(origin="https://evil.example").status_code == 403
        assert tell(visitor=sign.replace(f"{ann}.", f"{sent[1]['ben']}.", 1)).status_code == 422
        assert tell(key="key_secret").status_code == 403
        assert tell(event="DROP TABLE").status_code == 422
        assert tell(event="never_heard_of").status_code == 422
        assert tell(event="page_viewed").status_code == 200
        assert tell(page="\ud800").status_code == tell(page="a\0b").status_code == 422
        assert outcome(database, sent).converted == 1
        # What money is counted by may be kept from websites: their visitors could make it up.
        with database.session() as session:
            session.execute(
                sa.text("UPDATE event_kinds SET by_website = false WHERE key = 'ticket_bought'")
            )
        refused = tell(amount=10**6)
        assert refused.status_code == 403 and "Send it by the API" in refused.json["error"]
        assert (
            tell(event="page_viewed").status_code == 200 and outcome(database, sent).converted == 1
        )

    def test_contacts_by_the_api(self, database, settings, sent):
        def put(**data):
            return sent[2].put("/api/v1/contacts", json=data, headers=self.AUTH)

        made = put(
            email="new@post.example", first_name="New", consent={"agreed": True, "how": "till"}
        )
        assert made.status_code == 201
        assert put(email="NEW@post.example", town="Farrow").json["first_name"] == "New"
        shown = sent[2].get(f"/api/v1/contacts/{made.json['id']}", headers=self.AUTH).json
        assert (shown["town"], shown["consent"][0]) == (
            "Farrow",
            {"channel": "email", "topic": "All email", "agreed": True, "how": "till"},
        )
        assert put(email="nope").status_code == 422
        assert put(email="x@post.example", consent={"agreed": True}).json["where"] == "consent.how"


def test_every_number_leads_to_exactly_its_people(database, settings, sent):
    client = sent[2]
    client.get(f"/o/{token(settings, sent, 'ann', 'open')}", headers=READER)
    client.get(f"/c/{token(settings, sent, 'ben', 'click')}/0", headers=READER)
    client.post(f"/u/{token(settings, sent, 'ben', 'leave')}")
    with database.session() as session:
        send = session.get_one(Send, sent[0])
        for what, names in (
            ("delivered", set(sent[1])),
            ("opened", {"ann", "ben"}),
            ("clicked", {"ben"}),
            ("link0", {"ben"}),
            ("link1", set()),
            ("unsubscribed", {"ben"}),
            ("audience", set(sent[1])),
            ("waiting", set()),
            ("converted", set()),
        ):
            rows = people_behind(session, send, what, 100)
            assert {r.first_name for r in rows} == names
            assert count_behind(session, send, what) == len(names)
