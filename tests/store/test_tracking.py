"""What comes back: by HTTP through the real application, by mail through the real listener's
reader."""

import base64
import datetime as dt
import hmac
import importlib.util
import json
import re

import sqlalchemy as sa

from meadowrun.base import clock, signing
from meadowrun.people.models import Consent
from meadowrun.results.queries import count_behind, people_behind
from meadowrun.sends.models import Send
from tests.store.tracked import NOW, READER, ROOT, outcome, token


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
