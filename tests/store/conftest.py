"""The application as a browser would reach it, and small worlds to try it on."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.cache import forget
from meadowrun.core.content import document as doc
from meadowrun.gateways import smtp
from meadowrun.messages import actions as messages
from meadowrun.messages.senders import Sender
from meadowrun.people import actions as people
from meadowrun.people.models import Topic
from meadowrun.people.queries import dictionary
from meadowrun.scores import actions as scores
from meadowrun.segments import actions as segments
from meadowrun.segments import groupings
from meadowrun.shell import accounts
from meadowrun.shell.keys import hash_key
from meadowrun.shell.models import SCOPES, ApiKey
from meadowrun.tags import actions as tags
from tests.conftest import NOW
from tests.store import tracked, writing_journeys
from tests.store.letters import LETTER
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.sending import Keeper
from tests.store.small_world import build
from tests.store.starting import starting_world
from tests.store.web import app_of, browser, sign_in
from tests.store.work import number_of


@pytest.fixture
def client(database, settings):
    with database.session() as session:
        for name in ("admin", "author", "viewer"):
            accounts.add_user(
                session, NOW, f"{name}@farrowhill.example", name.title(), name, "a long password"
            )
    return browser(database, settings)


@pytest.fixture
def web(client):
    """Signed in as the administrator."""
    sign_in(client)
    return client


@pytest.fixture
def keeper(monkeypatch):
    """A mail gateway that keeps what is handed to it."""
    made = Keeper()
    monkeypatch.setattr(smtp, "gateway", lambda settings, signer=None, route="first": made)
    return made


@pytest.fixture
def given(database, settings, job_context, keeper):
    """A world in which journeys start; gives the campaign and the message."""
    return starting_world(database)


@pytest.fixture
def api(database, client):
    """Calls the API with a live key: api("get", "/lists") → (status, JSON)."""
    with database.session() as session:
        session.add(
            ApiKey(
                name="Desk",
                kind="secret",
                key_hash=hash_key("key_x"),
                may=list(SCOPES),
                created_at=NOW,
            )
        )
        people.add_field(session, IDA, NOW, "contact", "tier", "choice", ["Single", "Patron"])
        people.add_field(session, IDA, NOW, "company", "pupils", "number", [])
    forget()

    def call(method, path, body=None, key="key_x"):
        answer = getattr(client, method)(
            f"/api/v1{path}", json=body, headers={"Authorization": f"Bearer {key}"}
        )
        return answer.status_code, answer.json

    return call


@pytest.fixture
def letter(database):
    """An email with fill-ins, a button and a footer, and two people to read it as; its number."""
    with database.session() as session:
        add(session, NOW, "ann@post.example", first_name="Ann", town="Farrow")
        add(session, NOW, "bo@post.example", first_name=None, town=None)
        made = messages.create(session, IDA, NOW, "A letter", doc.take(LETTER))
        session.add(Sender(name="The desk", address="desk@farrowhill.example", reply_to=""))
        return made.id


@pytest.fixture
def three(database):
    """Ann, Ben and Cy, who agreed to email; their numbers by name."""
    with database.session() as session:
        people.add_field(session, IDA, NOW, "contact", "membership", "choice", ["Single", "Patron"])
        people.add_field(session, IDA, NOW, "contact", "score", "number", [])
        session.add(Topic(key="diary", name="Sky diary", about=""))
        return {
            name: add(
                session,
                NOW,
                f"{name.lower()}@post.example",
                True,
                first_name=name,
                last_name="Marsh",
                membership=tier,
            ).id
            for name, tier in (("Ann", "Patron"), ("Ben", "Single"), ("Cy", "Single"))
        }


@pytest.fixture
def town(database):
    """Four people; two of them bought a ticket."""
    with database.session() as session:
        people.add_field(session, IDA, NOW, "contact", "tier", "choice", ["Single", "Patron"])
        people.add_field(session, IDA, NOW, "contact", "renewal", "date", [])
        people.add_field(session, IDA, NOW, "contact", "score", "number", [])
        ids = kinds(session)
        made = [
            add(
                session,
                NOW,
                f"{name.lower()}@post.example",
                first_name=name,
                town=place,
                tier=tier,
                score=score,
            )
            for name, place, tier, score in (
                ("Ann", "Farrow", "Patron", 4),
                ("Bo", "Farrow", "Single", 20),
                ("Cy", "Tarnside", "Patron", 7),
                ("Di", None, None, None),
            )
        ]
        for contact in made[:2]:
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "CAST(:d AS jsonb))"
                ),
                {
                    "c": contact.id,
                    "at": NOW,
                    "k": ids["ticket_bought"],
                    "d": '{"amount": 12, "night": "Moon"}',
                },
            )
    forget()


@pytest.fixture
def second(database, settings, client):
    """Another approver, at a desk of their own."""
    with database.session() as session:
        accounts.add_user(
            session, NOW, "hetty@farrowhill.example", "Hetty", "approver", "a long password"
        )
    other = browser(database, settings)
    sign_in(other, "hetty")
    return other


@pytest.fixture
def ready(database, web, job_context):
    """A campaign with a ready send to three people, one of whom never agreed."""
    with database.session() as session:
        for name, agreed in (("Ann", True), ("Bo", True), ("Cy", None)):
            add(session, NOW, f"{name.lower()}@post.example", agreed=agreed, first_name=name)
    web.post("/segments/save", json={"name": "Everybody", "definition": {"lines": []}})
    with database.session() as session:
        session.add(Topic(key="diary", name="Sky diary", about="monthly"))
        send = ready_send(session, NOW, {"in": [{"segment": 1}], "out": []})
        session.flush()
        return send.id


@pytest.fixture
def people_and_words(database):
    """A session, the forty people of the small world by number, and the dictionary."""
    with clock.at(NOW), database.session() as session:
        persons = build(session)
        yield session, persons, dictionary(session)


@pytest.fixture
def world(database, three):
    """One of each thing that pages show; the number of its send."""
    with clock.at(NOW), database.session() as session:
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        words = dictionary(session)
        segments.save(session, IDA, NOW, words, "All", {"format": 1, "lines": []})
        groupings.create(session, IDA, NOW, "Parts")
        tags.give(session, IDA, NOW, "a/b", list(three.values()))
        scores.save(session, IDA, NOW, words, {"name": "Interest"})
        return send.id


@pytest.fixture
def sent(database, settings, job_context, keeper):
    """A send of which five people got the mail: (send's number, {name: contact's number}, the
    application's client, {name: the number of the delivery})."""
    ident, who = tracked.five_got(database, settings)
    with clock.at(tracked.NOW + dt.timedelta(hours=1)):
        numbers = {name: number_of(database, ident, contact) for name, contact in who.items()}
        yield ident, who, app_of(settings, database).test_client(), numbers


@pytest.fixture
def ida(client, database, job_context, keeper, still):
    """Signed in, with all that a journey of the pages needs."""
    return writing_journeys.ready(client, database)


@pytest.fixture
def journey(ida, database):
    """A journey that was written on its page and not started; its number."""
    return writing_journeys.welcome(ida, database)
