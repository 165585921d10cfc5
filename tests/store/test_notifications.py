"""A push notification end to end: a browser allows it, it is sent encrypted, read, clicked; a
browser that is gone is forgotten."""

import dataclasses
import datetime as dt
import json
import threading

import pytest
import sqlalchemy as sa
from werkzeug.serving import make_server

from meadowrun.base import clock, jobs, signing
from meadowrun.base.errors import Invalid
from meadowrun.core.channels import beginning
from meadowrun.messages import actions as messages
from meadowrun.messages.models import Message
from meadowrun.people import actions as people
from meadowrun.sends import actions as sends
from meadowrun.sends import timing
from meadowrun.sends.models import Send
from meadowrun.tracking import actions as tracking
from meadowrun.village import apps, browsers
from meadowrun.village.store import Store
from tests.conftest import NOW
from tests.store.people import IDA, add, ready_send
from tests.store.sending import counts, run_all, segment, start
from tests.store.work import token_of

PUSH = {
    "href": "https://farrowhill.example/tickets?who={{ contact.town }}",
    "buttons": [{"label": "Book", "href": "https://farrowhill.example/book"}],
    "ttl": 3600,
    "data": [["night", "{{ contact.town | default('any', true) }}"]],
    "close_after": 20,
}


@pytest.fixture
def village(tmp_path):
    """The village's push service on a port of its own."""
    import flask

    store, app = Store(tmp_path / "village.db"), flask.Flask("village")
    server = make_server("127.0.0.1", 0, app)
    site = f"http://127.0.0.1:{server.server_port}"
    app.register_blueprint(browsers.pages(store, site))
    app.register_blueprint(apps.pages(store, "http://127.0.0.1:1", site, "key"))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield store, site
    server.shutdown()


@pytest.fixture
def settings(settings, village):
    """The push service stands inside this network here, and the settings say so."""
    return dataclasses.replace(
        settings, inner_hosts=frozenset({village[1].removeprefix("http://")})
    )


def notification(session, push=PUSH, name="A notice"):
    document = beginning("push", "Farrow Hill", "STOP") | {
        "subject": "Clear tonight, {{ contact.first_name | default('you', true) }}",
        "plain": "The dome opens at seven",
        "push": push,
    }
    return messages.create(session, IDA, NOW, name, messages.take(document, {}, "push"), "push").id


def noticing(session, push=PUSH):
    send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
    send.message_id = notification(session, push)
    session.flush()
    return send.id, send.message_id


def test_end_to_end(database, settings, job_context, village, client):
    store, site = village
    with clock.at(NOW), database.session() as session:
        ann, bo, cy = (
            add(session, NOW, f"{n}@post.example", first_name=n.title(), town="Farrow")
            for n in ("ann", "bo", "cy")
        )
        add(session, NOW, "di@post.example")
        for person, count in ((ann, 2), (bo, 1), (cy, 1)):
            for _ in range(count):
                tracking.subscribe_device(
                    session,
                    NOW,
                    person.id,
                    browsers.new_browser(store, str(person.id), site),
                    settings.inner,
                )
        people.set_consent(session, NOW, cy.id, 0, False, "switched off", "push")
        store.write("UPDATE browsers SET gone = 1 WHERE contact = ?", str(bo.id))
        ident, _ = noticing(session)
        ann_id, bo_id = ann.id, bo.id
    start(database, settings, ident, 2)
    run_all(database, ident)
    assert counts(database, ident)[0] == {
        "delivered": 1,
        "bounced": 1,
        "no_consent": 1,
        "no_address": 1,
    }
    got = [json.loads(row["payload"]) for row in store.rows("SELECT payload FROM notifications")]
    token = token_of(database, settings, "click", ident, ann_id)
    assert got == 2 * [
        {
            "title": "Clear tonight, Ann",
            "body": "The dome opens at seven",
            "tap": "address",
            "url": f"{settings.public_url}/c/{token}/0",
            "buttons": [{"label": "Book", "href": f"{settings.public_url}/c/{token}/1"}],
            "close_after": 20,
            "data": {"night": "Farrow"},
        }
    ]
    assert store.rows("SELECT ttl FROM notifications")[0]["ttl"] == 3600
    assert (
        client.get(f"/c/{token}/0", headers={"User-Agent": "A browser"}).headers["Location"]
        == "https://farrowhill.example/tickets?who=Farrow"
    )
    assert (
        client.get(f"/c/{token}/1", headers={"User-Agent": "A browser"}).headers["Location"]
        == "https://farrowhill.example/book"
    )
    with database.session() as session:
        assert session.execute(
            sa.text("SELECT contact_id FROM push_devices WHERE gone_at IS NOT NULL")
        ).scalars().all() == [bo_id]


def test_one_that_has_expired_while_it_waited_is_not_sent(database, settings, job_context, village):
    """It is of use for an hour, and people wait for the evening: they get nothing, are counted, and
    the sheet said so."""
    store, site = village
    with clock.at(NOW), database.session() as session:
        ann = add(session, NOW, "ann@post.example", first_name="Ann", town="Farrow")
        browser = browsers.new_browser(store, str(ann.id), site)
        tracking.subscribe_device(session, NOW, ann.id, browser, settings.inner)
        ident, _ = noticing(session)
        send = session.get_one(Send, ident)
        send.hours = {"from": "20:00", "to": "21:00"}
        session.flush()
        assert str(timing.last_words(session, send)) == "within 1 hour, when it expires"
    start(database, settings, ident, 1)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"waiting": 1}
    run_all(database, ident, NOW + dt.timedelta(hours=1))
    assert counts(database, ident)[0] == {"late": 1}
    assert store.rows("SELECT count(*) AS n FROM notifications")[0]["n"] == 0


def page_of_ours(session, text):
    """A message that a tap opens as a page."""
    document = {"subject": "The night", "lines": [{"id": "a", "type": "text", "html": text}]}
    return messages.create(session, IDA, NOW, "The page", messages.take(document, {}))


def test_phones_and_a_page_of_ours(database, settings, job_context, village, client):
    """By the gateway to phones of both systems, not to browsers; a tap opens a page filled in for
    its reader; an app that is gone is forgotten."""
    store, site = village
    jobs.set_context(jobs.Context(database, dataclasses.replace(settings, push_url=f"{site}/apps")))
    with clock.at(NOW), database.session() as session:
        ann, bo, cy = (
            add(session, NOW, f"{n}@post.example", first_name=n.title(), town="Farrow")
            for n in ("ann", "bo", "cy")
        )
        for person, system in ((ann, "android"), (ann, "ios"), (bo, "ios")):
            tracking.subscribe_device(
                session, NOW, person.id, apps.new_app(store, str(person.id), system)
            )
        for person in (ann, cy):
            tracking.subscribe_device(
                session,
                NOW,
                person.id,
                browsers.new_browser(store, str(person.id), site),
                settings.inner,
            )
        store.write("UPDATE apps SET gone = 1 WHERE contact = ?", str(bo.id))
        page = page_of_ours(
            session,
            "<p>Dear {{ contact.first_name }}, <a href='https://farrowhill.example/map'>the map"
            "</a></p>",
        )
        ident, message = noticing(
            session,
            {
                "tap": "page",
                "page": page.id,
                "systems": ["android", "ios"],
                "inbox": True,
                "buttons": [{"label": "Book", "href": "https://farrowhill.example/book"}],
            },
        )
        ids = {"ann": ann.id, "bo": bo.id}
    start(database, settings, ident, 3)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"delivered": 1, "bounced": 1, "no_address": 1}
    rows = store.rows(
        "SELECT a.system, n.payload FROM notifications n JOIN apps a ON a.token = n.browser ORDER "
        "BY a.system"
    )
    assert [row["system"] for row in rows] == ["android", "ios"]
    token, page_token = (
        token_of(database, settings, purpose, ident, ids["ann"]) for purpose in ("click", "page")
    )
    got = json.loads(rows[0]["payload"])
    assert (got["tap"], got["url"], got["inbox"]) == (
        "page",
        f"{settings.public_url}/n/{page_token}",
        True,
    )
    assert got["buttons"] == [{"label": "Book", "href": f"{settings.public_url}/c/{token}/1"}]
    page = client.get(f"/n/{page_token}")
    assert (
        "Dear Ann," in page.text
        and f"/c/{token}/2" in page.text
        and "sandbox" in page.headers["Content-Security-Policy"]
    )
    assert (
        client.get(f"/c/{token}/2", headers={"User-Agent": "A browser"}).headers["Location"]
        == "https://farrowhill.example/map"
    )
    assert client.get(f"/c/{token}/0", headers={"User-Agent": "A browser"}).status_code == 404, (
        "the push notification itself has its own address"
    )
    assert client.get("/n/made-up").status_code == 404
    with database.session() as session:
        assert session.execute(
            sa.text("SELECT contact_id FROM push_devices WHERE gone_at IS NOT NULL")
        ).scalars().all() == [ids["bo"]]
        session.execute(sa.text("DELETE FROM messages WHERE name = 'The page'"))
        session.execute(
            sa.text("UPDATE sends SET state = 'draft', edition_id = NULL WHERE id = :id"),
            {"id": ident},
        )
        found = sends.findings(session, session.get_one(Send, ident), settings.public_url, 1)
        assert "The page that a tap opens was not chosen, or is gone." in [c.text for c in found]


def test_a_gateway_for_phones_that_is_away_is_asked_again(database, settings, job_context, village):
    store, _ = village
    jobs.set_context(
        jobs.Context(database, dataclasses.replace(settings, push_url="http://127.0.0.1:9"))
    )
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example", first_name="Ann")
        tracking.subscribe_device(
            session, NOW, person.id, apps.new_app(store, str(person.id), "ios")
        )
        ident, _ = noticing(session)
    start(database, settings, ident, 1)
    run_all(database, ident)
    assert counts(database, ident)[0] == {"deferred": 1}


@pytest.mark.parametrize(
    "subscription",
    [
        {"system": "other", "token": "abcdefgh"},
        {"system": "ios"},
        {"system": "ios", "token": "a b c d e f g"},
        {"system": ["ios"], "token": "abcdefgh"},
        7,
        None,
        "text",
    ],
)
def test_a_device_that_says_nonsense(database, subscription):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example")
        with pytest.raises(Invalid):
            tracking.subscribe_device(session, NOW, person.id, subscription)


def test_handed_over_twice_it_is_shown_once(database, settings, job_context, village):
    store, site = village
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example", first_name="Ann")
        tracking.subscribe_device(
            session,
            NOW,
            person.id,
            browsers.new_browser(store, str(person.id), site),
            settings.inner,
        )
        ident, _ = noticing(session)
    start(database, settings, ident, 1)
    run_all(database, ident)
    with database.session() as session:
        session.execute(sa.text("UPDATE dispatches SET state = 'running', unsettled = TRUE"))
        session.execute(sa.text("UPDATE deliveries SET outcome = 'waiting'"))
    run_all(database, ident)
    assert len(store.rows("SELECT 1 FROM notifications")) == 1


def test_a_website_tells_of_a_browser(client, database, settings, village):
    store, site = village
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example").id
        session.execute(
            sa.text(
                "INSERT INTO api_keys (name, kind, key_hash, origins, created_at) VALUES ('s', "
                "'site', 'site_x', :o, :now)"
            ),
            {"o": [site], "now": NOW},
        )
    visitor = signing.visitor(settings.secret, person, clock.machine_now())
    subscription = browsers.new_browser(store, str(person), site)

    def told(**data):
        return client.post(
            "/site/push",
            json={"key": "site_x", "visitor": visitor, "subscription": subscription} | data,
            headers={"Origin": site},
        )

    assert told().json == {"subscribed": True}
    assert told(key="other").status_code == 403 and told(visitor="1.0").status_code == 422
    assert told(subscription={"endpoint": "x"}).status_code == 422
    assert told(subscription=subscription | {"endpoint": "ftp://x"}).status_code == 422
    assert len(client.get("/site/push").json["key"]) == 87
    with database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM push_devices")).scalar() == 1
        assert (
            session.execute(sa.text("SELECT agreed FROM consents WHERE channel = 'push'")).scalar()
            is True
        )


def test_the_page(web, database, village):
    with clock.at(NOW), database.session() as session:
        add(session, NOW, "ann@post.example", first_name="Ann", town="Tarnside")
        _, ident = noticing(session)
    page = web.get(f"/messages/{ident}", follow_redirects=True).text
    assert (
        "iPhones show buttons only after a long press" in page
        and "Phones do not close a push notification" in page
        and "of 3,993 bytes" in page
    )
    assert 'data-ref="contact.first_name"' in page and "first name, or “you”" in page
    read = web.get(f"/messages/{ident}/notification/read?as=1").json
    assert (
        read["title"] == "Clear tonight, Ann"
        and read["push"]["href"] == "https://farrowhill.example/tickets?who=Tarnside"
    )
    bad = {
        "subject": "",
        "plain": "x" * 300,
        "push": {"href": "nowhere", "buttons": [{"label": "", "href": "https://a.example"}]},
    }
    with database.session() as session:
        document = session.get_one(Message, ident).document
    bad = {"document": document | bad, "version": 1}
    margin = web.post(f"/messages/{ident}/notification", json=bad).json["margin"]
    for words in (
        "There is no title",
        "does not begin with https",
        "has no text",
        "cut the text at about 120",
    ):
        assert words in margin
    three = web.post(
        f"/messages/{ident}/notification",
        json={
            "version": 2,
            "changes": [{"do": "add_button", "of": "push"}, {"do": "add_button", "of": "push"}],
        },
        headers={"Accept": "application/json"},
    )
    assert three.status_code == 422 and "at most 2 buttons" in three.json["error"]


def test_a_proof_goes_where_the_notification_goes_and_its_page_opens(
    web, client, database, settings, village
):
    store, site = village
    with clock.at(NOW), database.session() as session:
        ann = add(session, NOW, "ann@post.example", first_name="Ann", town="Farrow").id
        bo = add(session, NOW, "bo@post.example", first_name="Bo").id
        tracking.subscribe_device(
            session, NOW, bo, browsers.new_browser(store, str(bo), site), settings.inner
        )
        page = page_of_ours(session, "<p>Dear {{ contact.first_name }}, up you come</p>").id
        ident = notification(session, {"tap": "page", "page": page, "systems": ["web"]})
        phones = notification(session, {"tap": "app", "systems": ["android", "ios"]}, "For phones")
    web.post(f"/messages/{ident}/proof", data={"to": "bo@post.example", "as": str(ann)})
    (row,) = store.rows("SELECT payload FROM notifications")
    got = json.loads(row["payload"])
    assert got["title"] == "[Proof] Clear tonight, Ann"
    shown = client.get(got["url"].removeprefix(settings.public_url))
    assert (
        "Dear Ann, up you come" in shown.text
        and "sandbox" in shown.headers["Content-Security-Policy"]
    )
    forged = f"/n/proof/{page}.{bo}.{got['url'].rsplit('.', 1)[1]}"
    for address in (forged, "/n/proof/", "/n/proof/x.y.z", "/n/proof/é.1", f"/n/proof/{page}"):
        assert client.get(address).status_code == 404, address
    refused = web.post(
        f"/messages/{phones}/proof",
        data={"to": "bo@post.example"},
        headers={"Accept": "application/json"},
    )
    assert (
        refused.status_code == 422
        and "save on web browsers, where this one does not go" in refused.json["error"]
    )
    with database.session() as session:
        assert session.execute(sa.text("SELECT count(*) FROM reactions")).scalar() == 0
