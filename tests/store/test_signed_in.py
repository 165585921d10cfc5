"""Being signed in: it ends when nobody uses it, is noted, and leaves nothing in the browser; a new
key is shown once and carried by no cookie."""

import dataclasses
import datetime as dt
import io
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.people import actions as people
from meadowrun.shell import accounts
from tests.store.web import browser, sign_in, words


def idle(database, **ago):
    with database.session() as session:
        session.execute(
            sa.text("UPDATE sign_ins SET seen_at = :at"),
            {"at": clock.machine_now() - dt.timedelta(**ago)},
        )


def test_a_sign_in_that_nobody_uses_ends(web, database):
    idle(database, minutes=29)
    assert web.get("/people").status_code == 200, "used in time it goes on"
    with database.session() as session:
        assert clock.machine_now() - session.scalar(
            sa.text("SELECT seen_at FROM sign_ins")
        ) < dt.timedelta(minutes=1)
    idle(database, minutes=31)
    assert web.get("/people").status_code == 302


def test_what_a_page_asks_by_itself_keeps_nobody_in(web, database):
    """A window left open, in which a send is followed, is no work."""
    idle(database, minutes=20)
    with database.session() as session:
        before = session.scalar(sa.text("SELECT seen_at FROM sign_ins"))
    assert web.get("/people", headers={"X-By-Itself": "1"}).status_code == 200
    with database.session() as session:
        assert session.scalar(sa.text("SELECT seen_at FROM sign_ins")) == before


def test_looking_again_and_again_writes_little(web, database):
    idle(database, minutes=1)
    with database.session() as session:
        before = session.scalar(sa.text("SELECT seen_at FROM sign_ins"))
    web.get("/people")
    with database.session() as session:
        assert session.scalar(sa.text("SELECT seen_at FROM sign_ins")) == before


def test_who_came_in_and_who_was_refused_is_noted_beside_what_was_changed(web):
    sign_in(web, "author", "the wrong one")
    sign_in(web)
    said = words(web.get("/changes").text)
    assert (
        "refused a sign-in of user “author@farrowhill.example”" in said
        and "Admin signed in" in said
    )
    assert "signed in" not in words(web.get("/").text)


def test_signing_in_and_out_leaves_nothing_of_before(web):
    with web.session_transaction() as kept:
        kept["planted"] = "by somebody"
    sign_in(web)
    with web.session_transaction() as kept:
        assert "planted" not in kept
        kept["of_mine"] = "yes"
    web.post("/sign-out")
    with web.session_transaction() as kept:
        assert dict(kept) == {}


@pytest.mark.parametrize("kind", ["secret", "site"])
def test_a_new_key_is_shown_once_and_no_cookie_carries_it(web, kind):
    answer = web.post(
        "/connections",
        data={
            "name": "Till",
            "kind": kind,
            "origins": "https://farrowhill.example",
            "may": ["read"],
        },
    )
    assert answer.status_code == 200 and ("shown only once" in answer.text) == (kind == "secret")
    found = re.search(r"only once:</b> <code>([^<]{20,})</code>", answer.text)
    assert bool(found) == (kind == "secret")
    if found:
        with web.session_transaction() as kept:
            assert found[1] not in str(dict(kept)) and found[1] not in str(answer.headers)
    assert "shown only once" not in web.get("/connections").text


def test_the_limits_are_as_promised(settings):
    """OWASP ASVS 4.0.3, 3.3.2: twelve hours, or thirty minutes without use."""
    assert settings.idle_minutes <= 30 and dt.timedelta(hours=12) >= accounts.LASTS


def test_one_sees_and_ends_where_one_is_signed_in(web, database, settings):
    other, third = browser(database, settings), browser(database, settings)
    sign_in(other)
    sign_in(third)
    page = web.get("/password").text
    assert (
        page.count(">Sign out</button>") >= 3
        and "this browser" in page
        and "Sign out every other browser" in page
    )
    with database.session() as session:
        hashed = session.scalar(
            sa.text("SELECT token_hash FROM sign_ins ORDER BY started_at DESC LIMIT 1")
        )
    web.post("/password/browsers", data={"browser": hashed})
    assert third.get("/people").status_code == 302 and other.get("/people").status_code == 200
    web.post("/password/browsers")
    assert other.get("/people").status_code == 302 and web.get("/people").status_code == 200
    author = browser(database, settings)
    sign_in(author, "author")
    with database.session() as session:
        mine = session.scalar(
            sa.text(
                "SELECT token_hash FROM sign_ins s JOIN users u ON u.id = s.user_id WHERE "
                "u.email LIKE 'author@%'"
            )
        )
    web.post("/password/browsers", data={"browser": mine})
    assert author.get("/people").status_code == 200, (
        "nobody ends the sign-in of somebody else by it"
    )


def test_by_https_the_cookie_is_this_hosts_alone(database, settings, web):
    safe = browser(database, dataclasses.replace(settings, cookie_secure=True))
    answer = sign_in(safe)
    cookies = [c for c in answer.headers.getlist("Set-Cookie") if "meadowrun_in" in c]
    (cookie,) = cookies
    assert cookie.startswith("__Host-meadowrun_in=") and all(
        part in cookie for part in ("Secure", "HttpOnly", "Path=/", "SameSite=Lax")
    )
    assert (
        "Domain" not in cookie
        and safe.get("/people", base_url="https://localhost").status_code == 200
    )


def test_headers_that_keep_answers_where_they_belong(web, database, settings):
    assert web.post("/sign-out").headers["Clear-Site-Data"] == '"cache", "storage"'
    assert web.get("/api/v1/contacts").headers["Content-Disposition"].startswith("attachment")
    safe = browser(database, dataclasses.replace(settings, cookie_secure=True)).get("/sign-in")
    assert (
        "includeSubDomains" in safe.headers["Strict-Transport-Security"]
        and "Server" not in safe.headers
    )


def test_only_websites_with_our_script_read_its_answers(web, database):
    web.post(
        "/connections",
        data={"name": "Website", "kind": "site", "origins": "https://farrowhill.example"},
    )
    for origin, may in (
        ("https://farrowhill.example", True),
        ("https://evil.example", False),
        ("null", False),
        ("", False),
    ):
        for answer in (
            web.post("/site/events", headers={"Origin": origin}),
            web.get("/site/push", headers={"Origin": origin}),
        ):
            assert (
                answer.headers.get("Access-Control-Allow-Origin") == origin
            ) == may and answer.headers.get("Access-Control-Allow-Origin") != "*"


def test_the_store_of_files_has_an_end(web, monkeypatch):
    monkeypatch.setattr(people, "MOST_STORED", 10)
    answer = web.post(
        "/files",
        data={"file": (io.BytesIO(b"%PDF-1.4 much more than ten"), "a.pdf")},
        content_type="multipart/form-data",
    )
    assert answer.status_code == 422 and "store of files is full" in answer.text
