"""The village's people live through a day: what they do about texts, push notifications and in-app
messages reaches the application by its own doors."""

import dataclasses
import datetime as dt
import json
import re
import threading
import urllib.request

import pytest
import sqlalchemy as sa
from werkzeug.serving import make_server

from meadowrun.base import clock, jobs, signing
from meadowrun.core.channels import beginning
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.demo import moved
from meadowrun.messages import actions as messages
from meadowrun.people import actions as people
from meadowrun.people.queries import dictionary
from meadowrun.results.queries import result
from meadowrun.sends.models import Send
from meadowrun.shell.app import create_app
from meadowrun.shell.models import ApiKey
from meadowrun.tracking.actions import subscribe_device
from meadowrun.village import app as village_app
from meadowrun.village import minds, post
from meadowrun.village.browsers import new_browser
from meadowrun.village.life import Life
from meadowrun.village.store import Resident, Store
from tests.conftest import NOW
from tests.store.people import IDA, add, ready_send
from tests.store.sending import counts, run_all, segment, start

DAY = dt.timedelta(days=1)
#: name → chances to click, buy and leave
TRUTH = {"ann": (1.0, 1.0, 0.0), "bo": (1.0, 0.0, 1.0), "cy": (0.0, 0.0, 0.0)}


@pytest.fixture
def served():
    """Serves an application on a port of its own until the test ends."""
    servers = []

    def serve(app, server=None):
        server = server or make_server("127.0.0.1", 0, app, threaded=True)
        server.app = app
        servers.append(server)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        return server

    yield serve
    for server in servers:
        server.shutdown()


@pytest.fixture
def hill(database, settings, served, tmp_path, job_context, monkeypatch):
    """The application and the village, each on its port, with three residents who can be reached by
    text, push notification and in-app message."""
    store = Store(tmp_path / "village.db")
    ports = [make_server("127.0.0.1", 0, None, threaded=True) for _ in range(2)]
    address, site = (f"http://127.0.0.1:{server.server_port}" for server in ports)
    here = dataclasses.replace(
        settings,
        public_url=address,
        village_url=site,
        demo=True,
        sms_url=f"{site}/sms",
        push_url=f"{site}/apps",
    )
    jobs.set_context(jobs.Context(database, here))
    with clock.at(NOW), database.session() as session:
        who = {}
        for n, name in enumerate(TRUTH):
            contact = add(
                session,
                NOW,
                f"{name}@post.example",
                first_name=name.title(),
                phone=f"07700 9001{n}1",
            )
            people.set_consent(session, NOW, contact.id, 0, True, "test", "sms")
            subscribe_device(
                session, NOW, contact.id, new_browser(store, str(contact.id), site), here.inner
            )
            who[name] = contact.id
        session.execute(
            sa.text(
                "INSERT INTO api_keys (name, kind, key_hash, origins, created_at) VALUES ('s', "
                "'site', 'site_x', :o, :now)"
            ),
            {"o": [site], "now": NOW},
        )
    store.settle(
        Resident(f"{name}@post.example", "takes", 1.0, *chances, 0.0, False, 18)
        for name, chances in TRUTH.items()
    )
    store.introduce(
        (str(who[name]), f"{name}@post.example", f"+4477009001{n}1") for n, name in enumerate(TRUTH)
    )
    monkeypatch.setattr(minds, "STROLLS", 10**9)
    life = Life(store, here.secret, ("127.0.0.1", 1), site, "site_x", address)
    served(create_app(here, database), ports[0])
    served(village_app.create_app(store, life), ports[1])

    class Hill:
        def live(self, since, until):
            while life.live(since.timestamp(), until.timestamp(), 50):
                pass

        def send(self, document, channel):
            with clock.at(NOW), database.session() as session:
                send = ready_send(
                    session, NOW, {"in": [{"segment": segment(session).id}], "out": []}
                )
                taken = messages.take(document, dictionary(session), channel)
                send.message_id = messages.create(
                    session, IDA, NOW, f"By {channel}", taken, channel
                ).id
                session.flush()
                ident = send.id
            start(database, here, ident, 3)
            run_all(database, ident)
            assert counts(database, ident)[0] == {"delivered": 3}
            return ident

        def result(self, ident):
            with database.session() as session:
                return result(session, session.get_one(Send, ident), NOW + DAY)

        def reactions(self, ident):
            names = {number: name for name, number in who.items()}
            with database.session() as session:
                return sorted(
                    (names[row[0]], row[1])
                    for row in session.execute(
                        sa.text(
                            "SELECT contact_id, kind FROM reactions JOIN sends s USING "
                            "(dispatch_id) WHERE s.id = :s AND NOT machine"
                        ),
                        {"s": ident},
                    )
                )

    made = Hill()
    made.who, made.site, made.settings, made.store = who, site, here, store
    yield made
    store.close()


MAIL = b"From: desk@farrowhill.example\r\nSubject: Clear tonight\r\n\r\nCome up the hill.\r\n"


def test_every_page_that_is_linked_opens(hill):
    """From the mailboxes on, as somebody who looks round clicks."""
    text = empty() | {"channel": "sms", "text_only": True, "plain": "Clear tonight."}
    hill.send(text, "sms")
    post.take(hill.store, "ann@post.example", MAIL, "bounce@farrowhill.example")
    ahead, opened = [f"{hill.site}/"], {}
    while ahead:
        address = ahead.pop()
        with urllib.request.urlopen(address) as answer:
            opened[address.removeprefix(hill.site)] = answer.status
            page = answer.read().decode()
        links = re.findall(r'<a\b[^>]*href="(/[^"]*)"', page)
        ahead += [
            f"{hill.site}{link}"
            for link in set(links)
            if link not in opened and f"{hill.site}{link}" not in ahead
        ]
    assert set(opened.values()) == {200}
    wanted = {
        "/",
        "/mailbox/ann@post.example",
        "/mail/1",
        "/phones",
        "/browsers",
        "/apps",
        "/names",
    }
    assert wanted | {"/observatory/", "/observatory/tickets"} <= set(opened)
    assert any(one.startswith("/phone/") for one in opened)


def test_texts(hill, database):
    text = f"Clear tonight: {hill.site}/observatory/tickets STOP ends these"
    ident = hill.send(empty() | {"channel": "sms", "text_only": True, "plain": text}, "sms")
    hill.live(NOW, NOW + DAY)
    assert hill.reactions(ident) == [("ann", "clicked"), ("bo", "unsubscribed")]
    assert (hill.result(ident).clicked, hill.result(ident).converted) == (1, 1), (
        "who tapped it bought, too"
    )
    with database.session() as session:
        assert session.execute(
            sa.text("SELECT contact_id FROM consents WHERE channel = 'sms' AND NOT agreed")
        ).scalars().all() == [hill.who["bo"]]
        kinds = session.execute(
            sa.text(
                "SELECT k.key, e.at FROM events e JOIN event_kinds k ON k.id = e.kind_id ORDER "
                "BY e.at"
            )
        ).all()
    assert [key for key, _ in kinds] == ["page_viewed", "ticket_bought"] and all(
        NOW < at < NOW + DAY for _, at in kinds
    )
    # What was decided is done once.
    hill.live(NOW + DAY, NOW + 3 * DAY)
    assert hill.reactions(ident) == [("ann", "clicked"), ("bo", "unsubscribed")]


def test_notifications_that_open_a_page_of_ours(hill, database):
    with clock.at(NOW), database.session() as session:
        page = messages.create(
            session,
            IDA,
            NOW,
            "The page",
            messages.take(
                {
                    "subject": "The night",
                    "lines": [
                        {"id": "a", "type": "text", "html": "<p>Dear {{ contact.first_name }}</p>"}
                    ],
                },
                {},
            ),
        ).id
    document = beginning("push", "Farrow Hill", "STOP") | {
        "subject": "Clear tonight",
        "plain": "Come up",
        "push": {"tap": "page", "page": page},
    }
    ident = hill.send(document, "push")
    hill.live(NOW, NOW + DAY)
    # The tap is counted though it leads nowhere but to us. (Whoever leaves texts and mails does not
    # leave push notifications so.)
    assert hill.reactions(ident) == [("ann", "clicked"), ("bo", "clicked")]
    with database.session() as session:
        links = session.execute(
            sa.text(
                "SELECT compiled->'links' FROM editions e JOIN sends s ON s.edition_id = e.id "
                "WHERE s.id = :id"
            ),
            {"id": ident},
        ).scalar_one()
        assert session.execute(sa.text("SELECT DISTINCT link FROM reactions")).scalars().all() == [
            links[0]["number"]
        ]
    assert [link["label"] for link in links] == ["the push notification"]


def test_in_app_messages_are_seen_by_who_comes_by(hill, monkeypatch):
    document = beginning("in_app", "Farrow Hill", "STOP") | {
        "subject": "Join us",
        "lines": [new_line("heading", text="Hello")],
    }
    document["in_app"] = {
        "times": 5,
        "gap_days": 0,
        "buttons": [
            {"label": "Join", "act": "open", "href": f"{hill.site}/observatory/join"},
            {"label": "Not now", "act": "later", "days": 1},
        ],
    }
    ident = hill.send(document, "in_app")
    hill.live(NOW, NOW + DAY)
    assert hill.reactions(ident) == [], "nobody came by"
    monkeypatch.setattr(minds, "STROLLS", 1)
    hill.live(NOW + DAY, NOW + 2 * DAY)
    assert hill.reactions(ident) == [
        ("ann", "clicked"),
        ("ann", "opened"),
        ("bo", "clicked"),
        ("bo", "opened"),
        ("cy", "opened"),
    ]


@pytest.mark.parametrize(
    "link", ["http://127.0.0.1:1/nobody-there", "no address at all", "http://[broken/"]
)
def test_a_deed_that_comes_to_nothing_keeps_no_other_from_its_own(hill, database, link):
    for second, deed, detail in (
        (5, "tap", {"link": link, "contact": "1"}),
        (6, "spend", {"contact": str(hill.who["ann"]), "amount": 8}),
    ):
        hill.store.write(
            "INSERT INTO plans (due, mail_id, deed, detail) VALUES (?, 0, ?, ?)",
            NOW.timestamp() + second,
            deed,
            json.dumps(detail),
        )
    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO event_kinds (key, did, \"do\") VALUES ('ticket_bought', 'bought', "
                "'buy')"
            )
        )
    hill.live(NOW, NOW + DAY)
    assert hill.store.rows("SELECT 1 FROM plans WHERE done = 0") == []
    with database.session() as session:
        assert session.execute(sa.text("SELECT contact_id FROM events")).scalars().all() == [
            hill.who["ann"]
        ]


def test_a_made_up_sign_opens_no_door(hill):
    sign = signing.visitor("another secret", hill.who["ann"], NOW)
    life = Life(
        hill.store,
        hill.settings.secret,
        ("127.0.0.1", 1),
        hill.site,
        "site_x",
        hill.settings.public_url,
    )
    assert (
        life.ask(
            f"{hill.settings.public_url}/site/events",
            None,
            "A browser",
            f'{{"key": "site_x", "visitor": "{sign}", "event": "page_viewed"}}'.encode(),
            {"Origin": hill.site, "Content-Type": "application/json"},
        )
        == ""
    )


def test_when_the_demo_moves_its_addresses_follow(database, tmp_path):
    memory, old = (
        tmp_path / "addresses.json",
        {"web": "http://127.0.0.1:8460", "village": "http://127.0.0.1:8461"},
    )
    document = {
        "lines": [
            {"id": "b", "type": "button", "href": "http://127.0.0.1:8461/join?x=1"},
            {"id": "p", "type": "picture", "src": "http://127.0.0.1:8460/f/a"},
            {"id": "e", "type": "text", "html": "https://elsewhere.example"},
        ]
    }

    def held():
        with database.session() as session:
            feed, lines, sites = session.execute(
                sa.text(
                    "SELECT f.url, m.document->'lines', k.origins FROM feeds f, messages m, "
                    "api_keys k"
                )
            ).one()
        assert sites == [feed.removesuffix("/sky"), "https://elsewhere.example"]
        return [feed, lines[0]["href"], lines[1]["src"], lines[2]["html"]]

    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO feeds (key, url, part, timeout_ms, keep_seconds, when_down) "
                "VALUES ('sky', 'http://127.0.0.1:8461/sky', '', 1, 1, 'wait')"
            )
        )
        session.add(
            ApiKey(
                name="Site",
                kind="site",
                key_hash="site_x",
                created_at=NOW,
                origins=["http://127.0.0.1:8461", "https://elsewhere.example"],
            )
        )
        session.execute(
            sa.text(
                "INSERT INTO messages (name, channel, document, draft, created_at, changed_at, "
                "changed_by) VALUES ('A', 'email', :document, 1, :now, :now, 'Ida')"
            ),
            {"document": json.dumps(document), "now": NOW},
        )
    assert not moved.follow(database, memory, old)
    before = held()
    assert not moved.follow(database, memory, old) and held() == before
    # Each by one: the village's new place is where the application was.
    assert moved.follow(
        database, memory, {"web": "http://127.0.0.1:8459", "village": "http://127.0.0.1:8460"}
    )
    assert held() == [
        "http://127.0.0.1:8460/sky",
        "http://127.0.0.1:8460/join?x=1",
        "http://127.0.0.1:8459/f/a",
        "https://elsewhere.example",
    ]
    assert moved.follow(database, memory, old) and held() == before
