"""What the village's people do without being written to, and what they do on the pages that emails
lead to, reaches the application by its own doors."""

import dataclasses
import datetime as dt
import email.message
import email.policy
import threading

import pytest
import sqlalchemy as sa
from werkzeug.serving import make_server

from meadowrun.base import clock, signing
from meadowrun.people import wholly
from meadowrun.people.models import EventKind
from meadowrun.shell.app import create_app
from meadowrun.shell.keys import make_key
from meadowrun.village import minds
from meadowrun.village.life import Life
from meadowrun.village.store import Doing, Habit, Resident, Store
from tests.conftest import NOW
from tests.store.people import IDA, add

HOUR, DAY = dt.timedelta(hours=1), dt.timedelta(days=1)
DOINGS = [
    Doing("visited", 20.0, False, ['{"night": "Open night"}']),
    Doing("membership_renewed", 10.0, True, []),
]
HAPPENED = """
SELECT k.key, e.contact_id, e.at, e.details FROM events e JOIN event_kinds k ON k.id = e.kind_id
ORDER BY e.at, e.kind_id
"""


@pytest.fixture
def hill(database, settings, tmp_path, monkeypatch):
    """The application on a port of its own, and a village of which Ann is a member, and Bo not."""
    monkeypatch.setattr(minds, "STROLLS", 10**9)
    store = Store(tmp_path / "village.db")
    server = make_server("127.0.0.1", 0, None, threaded=True)
    address = f"http://127.0.0.1:{server.server_port}"
    here = dataclasses.replace(settings, public_url=address, village_url=address, demo=True)
    with clock.at(NOW), database.session() as session:
        who = {name: add(session, NOW, f"{name}@post.example").id for name in ("ann", "bo")}
        for key in ("visited", "membership_renewed", "survey_answered", "ticket_bought"):
            session.add(EventKind(key=key, did=key, do=key, details={}))
        _, key = make_key(session, IDA, NOW, "Till", "secret", "", ["events"], 0, True)
    store.take_key("till", key)
    store.live_as(
        [Habit(str(who["ann"]), 1.0, 20, "Patron"), Habit(str(who["bo"]), 1.0, 8, "")], DOINGS
    )
    server.app = create_app(here, database)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    made = Life(store, here.secret, ("127.0.0.1", 1), address, "site_x", address)
    yield made, who
    server.shutdown()
    store.close()


def lived(life, since, until):
    while life.live(since.timestamp(), until.timestamp(), 50):
        pass


def happened(database):
    with database.session() as session:
        return [tuple(row) for row in session.execute(sa.text(HAPPENED))]


def test_the_till_tells_each_thing_once_at_its_own_moment(hill, database):
    life, who = hill
    for hours in range(0, 48, 6):
        lived(life, NOW + hours * HOUR, NOW + (hours + 6) * HOUR)
        lived(life, NOW + hours * HOUR, NOW + (hours + 6) * HOUR)
    found = happened(database)
    planned = life.store.rows("SELECT due, detail FROM plans WHERE deed = 'did' AND done = 1")
    assert [at.timestamp() for _, _, at, _ in found] == pytest.approx(
        sorted(row["due"] for row in planned), abs=0.001
    )
    # Thirty things a day, half as many more in November; two days of them.
    assert 60 < len(found) < 120
    assert all(NOW < at <= NOW + 2 * DAY for _, _, at, _ in found)
    renewed = {(contact, str(details)) for key, contact, _, details in found if "renewed" in key}
    assert renewed == {(who["ann"], "{'tier': 'Patron'}")}
    visited = {contact for key, contact, _, _ in found if key == "visited"}
    assert visited == set(who.values())


def test_nothing_is_next_because_of_what_they_do_every_day(hill):
    life, _ = hill
    lived(life, NOW, NOW + HOUR)
    assert life.store.rows("SELECT 1 FROM plans WHERE done = 0")
    assert life.next_due() is None


def test_whoever_was_erased_keeps_nobody_else_from_being_told_of(hill, database):
    life, who = hill
    with clock.at(NOW), database.session() as session:
        wholly.erase(session, IDA, NOW, who["bo"])
    lived(life, NOW, NOW + DAY)
    found = happened(database)
    assert len(found) > 10 and {contact for _, contact, _, _ in found} == {who["ann"]}
    assert (
        life.store.rows("SELECT 1 FROM plans WHERE done = 0 AND due <= ?", (NOW + DAY).timestamp())
        == []
    )


def test_a_till_that_reaches_nobody_is_tried_once_and_time_goes_on(hill, monkeypatch):
    life, _ = hill
    tried = []

    def away(*asked):
        tried.append(asked)
        raise OSError("nobody answers")

    monkeypatch.setattr(life, "ask", away)
    life.live(NOW.timestamp(), (NOW + DAY).timestamp(), 1000)
    assert len(tried) == 1


def test_without_a_key_the_till_tells_nothing(hill, database):
    life, _ = hill
    life.store.take_key("till", "")
    lived(life, NOW, NOW + DAY)
    assert happened(database) == []


@pytest.mark.parametrize(
    ("page", "event", "details"),
    [
        ("tickets", "ticket_bought", {"amount": 24.0}),
        ("join", "membership_renewed", None),
        ("survey", "survey_answered", {"score": 5}),
    ],
)
def test_whoever_wants_what_a_page_offers_does_it_there(hill, database, page, event, details):
    life, who = hill
    with database.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO api_keys (name, kind, key_hash, origins, created_at) "
                "VALUES ('s', 'site', 'site_x', :origins, :now)"
            ),
            {"origins": [life.site], "now": NOW},
        )
    sign = signing.visitor(life.secret, who["bo"], NOW)
    link = f"{life.site}/c/something"
    life.ask = asked_for(life, link, f"{life.site}/observatory/{page}?mr={sign}")
    life.store.settle([Resident("bo@post.example", "takes", 1.0, 1.0, 1.0, 0.0, 0.0, False, 8)])
    life.deed("buy", "24", "bo@post.example", mail(link), "", (NOW + HOUR).isoformat())
    assert happened(database) == [(event, who["bo"], NOW + HOUR, details)]


def asked_for(life, link, leads_to):
    """What a request gives: a tracked link leads to its page, all else goes the usual way."""
    usual = life.ask

    def ask(target, *rest):
        return leads_to if target == link else usual(target, *rest)

    return ask


def mail(link):
    message = email.message.EmailMessage(policy=email.policy.SMTP)
    message["Subject"] = "Come up"
    message.set_content("Come up.")
    message.add_alternative(f'<a href="{link}">Come up</a>', subtype="html")
    return message.as_bytes()
