"""An in-app message end to end: made ready for the people of a send, shown by the website's script,
answered, counted, never twice."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, signing
from meadowrun.core.channels import beginning
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions as messages
from meadowrun.outgoing import in_app_messages
from meadowrun.people import actions as people
from meadowrun.people.queries import dictionary
from meadowrun.results import queries as results
from meadowrun.sends import actions as sends
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add, ready_send
from tests.store.sending import counts, run_all, segment, start
from tests.store.web import words
from tests.store.work import number_of

SITE = "https://farrowhill.example"
DAY = dt.timedelta(days=1)
JOIN = {
    "label": "Join, {{ contact.first_name | default('you', true) }}",
    "act": "open",
    "href": f"{SITE}/join?town={{{{ contact.town }}}}",
}
LATER = {"label": "Cancel", "act": "later", "days": 7}


def in_app_of(session, name="A card", **given):
    words = dictionary(session)
    document = beginning("in_app", "Farrow Hill", "STOP") | {
        "subject": "Join us",
        "lines": [
            new_line("heading", text="Hello {{ contact.first_name | default('you', true) }}"),
            new_line(
                "text",
                html=(
                    '<p>{% if contact.town == "Farrow" %}Walk up.{% else %}Drive up.{% endif %}</p>'
                ),
            ),
        ],
    }
    document["in_app"] = {
        "buttons": [JOIN, LATER],
        "until": "2027-01-31",
        "times": 2,
        "gap_days": 1,
    } | given
    return messages.create(
        session, IDA, NOW, name, messages.take(document, words, "in_app"), "in_app"
    )


def sending(session, name="A card", **given):
    send = ready_send(
        session,
        NOW,
        {"in": [{"segment": (session.info.get("segment") or segment(session)).id}], "out": []},
        "membership_started",
    )
    send.message_id = in_app_of(session, name, **given).id
    session.flush()
    return send.id


@pytest.fixture
def site(database, settings, job_context, client):
    """Three people, a website with a key, and what its script does."""
    with clock.at(NOW), database.session() as session:
        ids = {
            n: add(session, NOW, f"{n}@post.example", first_name=n.title(), town=t).id
            for n, t in (("ann", "Farrow"), ("bo", "Tarnside"), ("cy", "Ossenmere"))
        }
        people.set_consent(session, NOW, ids["cy"], 0, False, "asked for no cards", "in_app")
        session.execute(
            sa.text(
                "INSERT INTO api_keys (name, kind, key_hash, origins, created_at) VALUES ('s', "
                "'site', 'site_x', :o, :now)"
            ),
            {"o": [SITE], "now": NOW},
        )
        session.execute(
            sa.text(
                "INSERT INTO event_kinds (key, did, \"do\") VALUES ('membership_started', "
                "'became a member', 'become a member')"
            )
        )

    class Site:
        people = ids

        def post(self, path, who, at=NOW, origin=SITE, **data):
            sign = signing.visitor(settings.secret, ids[who], at)
            with clock.at(at):
                return client.post(
                    path,
                    json={"key": "site_x", "visitor": sign} | data,
                    headers={"Origin": origin, "User-Agent": "A browser"},
                )

        def comes(self, who, at=NOW, event="page_viewed", page="/", **more):
            answer = self.post("/site/events", who, at, event=event, details={"page": page}, **more)
            assert answer.status_code == 200, answer.text
            return answer.json["in_app"]

        def presses(self, who, in_app, button, at=NOW):
            return self.post("/site/in-app", who, at, token=in_app["token"], button=button)

    return Site()


def go(database, settings, **given):
    with clock.at(NOW), database.session() as session:
        ident = sending(session, **given)
    start(database, settings, ident, 2)
    run_all(database, ident)
    return ident


def test_end_to_end(database, settings, site, client):
    ident = go(database, settings)
    assert counts(database, ident)[0] == {"delivered": 2, "no_consent": 1}
    ann, bo = (
        site.comes("ann", NOW + dt.timedelta(minutes=5)),
        site.comes("bo", NOW + dt.timedelta(hours=1)),
    )
    assert (
        "Hello Ann" in ann["html"]
        and "Walk up." in ann["html"]
        and "Hello Bo" in bo["html"]
        and "Drive up." in bo["html"]
    )
    assert site.comes("cy") is None
    token = signing.make(
        settings.secret, "click", number_of(database, ident, site.people["ann"]), site.people["ann"]
    )
    assert ann["buttons"] == [
        {"label": "Join, Ann", "act": "open", "href": f"{settings.public_url}/c/{token}/0"},
        {"label": "Cancel", "act": "later", "href": ""},
    ]
    assert (ann["shape"], ann["title"], ann["looks"]["width"]) == ("box", "Join us", 460)
    assert site.presses("ann", ann, 0, NOW + dt.timedelta(minutes=6)).json == {"act": "open"}
    with clock.at(NOW + dt.timedelta(minutes=6)):
        assert (
            client.get(f"/c/{token}/0", headers={"User-Agent": "A browser"})
            .headers["Location"]
            .startswith(f"{SITE}/join?town=Farrow&mr=")
        )
    assert site.comes("ann", NOW + 5 * DAY) is None, "what it was for is done"
    assert site.presses("bo", bo, 1).json == {"act": "later"}
    assert site.comes("bo", NOW + 6 * DAY) is None and site.comes("bo", NOW + 8 * DAY) is not None
    with database.session() as session:
        found = results.result(session, session.get_one(Send, ident), NOW + 9 * DAY)
        assert (found.delivered, found.opened, found.clicked) == (2, 2, 1)
        found = in_app_messages.tally(session, session.get_one(Send, ident).dispatch_id)
        assert found == {"showings": 3, "put_off": 1, "overtaken": 0, "outside": 0, "not_yet": 0}


def test_fresh_values_and_what_was_seen_is_kept(database, settings, site, web):
    ident = go(database, settings)
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET town = 'Farrow' WHERE id = :id"), {"id": site.people["bo"]}
        )
    assert "Walk up." in site.comes("bo")["html"]
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET town = 'Ossenmere' WHERE id = :id"),
            {"id": site.people["bo"]},
        )
    page = web.get(f"/sends/{ident}/mail/{site.people['bo']}.html").text
    assert "Walk up." in page and "Join, Bo" in page
    shown = web.get(f"/results/{ident}").text
    assert (
        "Ready to show" in shown
        and "Pressed a button" in shown
        and "Said no to in-app messages" in shown
    )


def test_it_stays_away_outside_its_days_and_after_what_it_asks_for(database, settings, site):
    ident = go(
        database,
        settings,
        **{
            "from": "2026-11-25",
            "unless": "membership_started",
            "event": "page_viewed",
            "page": "/join*",
        },
    )
    assert site.comes("ann", NOW, page="/join") is None and site.comes("ann", NOW, page="/") is None
    assert site.comes("bo", NOW + 3 * DAY, event="membership_started") is None
    assert site.comes("bo", NOW + 3 * DAY, page="/join") is None
    assert site.comes("ann", NOW + 3 * DAY, page="/join/now") is not None
    with database.session() as session:
        found = in_app_messages.tally(session, session.get_one(Send, ident).dispatch_id)
        assert found == {"showings": 1, "put_off": 0, "overtaken": 1, "outside": 1, "not_yet": 0}


def test_the_days_are_those_of_the_visitors_own_clock(database, settings, site):
    go(database, settings, **{"from": "2026-11-24"})
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET timezone = 'Pacific/Auckland' WHERE id = :id"),
            {"id": site.people["ann"]},
        )
    # 14:00 in London on the 23rd is 03:00 on the 24th in Auckland.
    assert site.comes("ann", NOW) is not None and site.comes("bo", NOW) is None


def test_how_often(database, settings, site):
    go(database, settings, times=2, gap_days=2)
    seen = [bool(site.comes("ann", NOW + n * DAY)) for n in range(6)]
    assert seen == [True, False, True, False, False, False]
    assert site.comes("bo", NOW, leaving=True) is None, (
        "nobody sees an in-app message on a page they leave"
    )
    assert site.comes("bo", NOW) is not None


def test_a_button_records_an_event_once(database, settings, site):
    ident = go(
        database,
        settings,
        buttons=[
            {"label": "I joined", "act": "event", "event": "membership_started"},
            {"label": "Allow", "act": "allow"},
        ],
    )
    in_app = site.comes("ann")
    for _ in range(2):
        assert site.presses("ann", in_app, 0).json == {"act": "event"}
    with database.session() as session:
        rows = session.execute(
            sa.text(
                "SELECT contact_id, e.details->>'button' FROM events e JOIN event_kinds k ON k.id "
                "= e.kind_id WHERE k.key = 'membership_started'"
            )
        ).all()
        assert [tuple(r) for r in rows] == [(site.people["ann"], "I joined")]
        assert results.result(session, session.get_one(Send, ident), NOW).clicked == 1
    assert site.comes("ann", NOW + 9 * DAY) is None


def test_nobody_answers_for_another(database, settings, site):
    go(database, settings)
    in_app = site.comes("ann")
    assert site.presses("bo", in_app, 0).status_code == 422
    assert site.post("/site/in-app", "ann", token="made-up", button=0).status_code == 422
    assert site.presses("ann", in_app, 7).status_code == 422
    assert (
        site.post(
            "/site/in-app", "ann", origin="https://evil.example", token=in_app["token"], button=0
        ).status_code
        == 403
    )
    assert site.presses("ann", in_app, None).json == {"act": "close"}


def test_two_in_app_messages_at_once_and_a_stopped_send(database, settings, site):
    with clock.at(NOW), database.session() as session:
        session.info["segment"] = segment(session)
        late, soon = (
            sending(session, "Late", until="2027-01-31"),
            sending(session, "Soon", until="2026-12-01", times=1),
        )
    for ident in (late, soon):
        start(database, settings, ident, 2)
        run_all(database, ident)
    first, second = site.comes("ann"), site.comes("ann", NOW + dt.timedelta(minutes=1))
    ann, bo = site.people["ann"], site.people["bo"]
    assert signing.read(settings.secret, "in_app", first["token"]) == (
        number_of(database, soon, ann),
        ann,
    )
    assert signing.read(settings.secret, "in_app", second["token"]) == (
        number_of(database, late, ann),
        ann,
    )
    with clock.at(NOW), database.session() as session:
        # All were laid; taking them away is still possible, which for mail it is not.
        sends.stop(session, IDA, NOW, session.get_one(Send, late))
    assert signing.read(settings.secret, "in_app", site.comes("bo")["token"]) == (
        number_of(database, soon, bo),
        bo,
    )
    assert site.comes("bo", NOW + DAY) is None


def test_a_worker_that_dies_lays_none_twice(database, settings, site):
    ident = go(database, settings)
    site.comes("ann")
    with database.session() as session:
        session.execute(sa.text("UPDATE dispatches SET state = 'running', unsettled = TRUE"))
        session.execute(
            sa.text(
                "UPDATE deliveries SET outcome = 'in_hand', claimed_at = NULL WHERE outcome = "
                "'delivered'"
            )
        )
    run_all(database, ident)
    assert counts(database, ident)[0] == {"delivered": 2, "no_consent": 1}
    with database.session() as session:
        assert session.execute(sa.text("SELECT sum(times) FROM in_app_places")).scalar() == 1


def test_a_proof_on_the_website(database, settings, site, web, client):
    with clock.at(NOW), database.session() as session:
        ident = in_app_of(session).id
    refused = web.post(
        f"/messages/{ident}/proof",
        data={"to": "https://evil.example/", "as": "1"},
        headers={"Accept": "application/json"},
    )
    assert refused.status_code == 422 and "carries our script" in refused.json["error"]
    asked = web.post(
        f"/messages/{ident}/proof",
        data={"to": f"{SITE}/join?x=1", "as": str(site.people["ann"])},
        follow_redirects=True,
    ).text
    assert f'href="{SITE}/join?x=1&amp;mr-in-app=' in asked
    proof = asked.split("mr-in-app=")[1].split('"')[0]

    def ask(text, origin=SITE):
        return client.get(f"/site/in-app/proof?key=site_x&proof={text}", headers={"Origin": origin})

    shown = ask(proof).json["in_app"]
    assert (
        shown["title"] == "[Proof] Join us"
        and "Hello Ann" in shown["html"]
        and shown["token"] == ""
    )
    assert shown["buttons"][0]["href"] == f"{SITE}/join?town=Farrow"
    assert (
        ask(proof[:-1] + "x").status_code == 422
        and ask("").status_code == 422
        and ask(proof, "https://evil.example").status_code == 403
    )


def test_the_page_and_what_it_refuses(database, site, web):
    with clock.at(NOW), database.session() as session:
        ident = in_app_of(session).id
    page = web.get(f"/messages/{ident}").text
    assert "In-app message" in page and "became a member" in page and "Cancel" in page
    document = {**_document(database, ident)}
    document["in_app"] = document["in_app"] | {"until": "someday"}
    bad = web.post(
        f"/messages/{ident}/save",
        json={"document": document, "version": 1},
        headers={"Accept": "application/json"},
    )
    assert bad.status_code == 422 and bad.json["where"] == "in_app:until"
    document["in_app"] |= {"until": "", "buttons": []}
    saved = web.post(
        f"/messages/{ident}/save", json={"document": document, "version": 1, "redraw": True}
    ).json
    assert (
        "no last day" in words(saved["margin"])
        and "no button" in words(saved["margin"])
        and "Add a button" in words(saved["lines"])
    )
    drafts = web.get(f"/messages/{ident}/drafts").text
    assert "buttons, last day changed" in drafts
    shown = web.get(f"/messages/{ident}/read.html?as={site.people['ann']}").text
    assert "Hello Ann" in shown and "mr-in-app" in shown
    web.post("/messages/new", data={"name": "Another", "channel": "in_app"})
    with database.session() as session:
        made = session.execute(
            sa.text(
                "SELECT channel, document->'in_app'->>'shape' FROM messages WHERE name = 'Another'"
            )
        ).one()
        assert tuple(made) == ("in_app", "box")


def _document(database, ident):
    with database.session() as session:
        return session.execute(
            sa.text("SELECT document FROM messages WHERE id = :id"), {"id": ident}
        ).scalar()
