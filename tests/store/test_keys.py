"""Keys of the API and of websites: made by an administrator, shown once, used, retired; what is
wrong keeps what was typed."""

import datetime as dt
import re

import pytest
import sqlalchemy as sa

from meadowrun.api.door import PATHS, scope_of
from meadowrun.base import clock, signing
from meadowrun.base.audit import AuditRow
from meadowrun.shell.models import SCOPES, ApiKey
from tests.store.web import sign_in, words


def make(web, **form):
    return web.post("/connections", data={"use": "direct", **form}, follow_redirects=True)


def shown(web, header):
    """What the API answers to whoever shows this."""
    return web.get("/api/v1/contacts", headers={"Authorization": header}).status_code


def test_a_key_of_the_api_is_shown_once_and_works(web, database):
    page = make(web, name=" Ticket  office ", kind="secret", may=["read", "events"], days="90")
    key = re.search(r"key_[\w-]{20,}", page.text).group()
    assert "“Ticket office” can be used now" in words(page.text) and "shown only once" in page.text
    assert key not in web.get("/connections").text
    with database.session() as session:
        assert key not in session.scalars(sa.select(ApiKey.key_hash)).all(), "only its hash is kept"
        row = session.scalar(sa.select(AuditRow).where(AuditRow.did == "made the key"))
        assert (row.object_name, row.detail) == (
            "Ticket office",
            {"kind": "secret", "may": ["read", "events"], "days": 90, "direct": True},
        )
    assert shown(web, f"Bearer {key}") == 200
    ident = int(re.search(r"/connections/(\d+)/retire", web.get("/connections").text).group(1))
    assert "no longer works" in web.post(f"/connections/{ident}/retire", follow_redirects=True).text
    assert (
        shown(web, f"Bearer {key}") == 403 and web.post("/connections/99/retire").status_code == 404
    )


class TestTokens:
    @pytest.fixture
    def key(self, web):
        return re.search(
            r"key_[\w-]{20,}", make(web, name="Shop", kind="secret", may=["read"], use="token").text
        ).group()

    def token(self, web, header):
        return web.post("/api/v1/token", headers={"Authorization": header})

    def test_a_key_is_exchanged_for_a_token_that_may_what_the_key_may(self, web, key):
        assert "exchanged for tokens of an hour" in words(web.get("/connections").text)
        refused = web.get("/api/v1/contacts", headers={"Authorization": f"Bearer {key}"})
        assert refused.status_code == 403 and "/api/v1/token" in refused.json["error"]
        answer = self.token(web, f"Bearer {key}")
        assert answer.headers["Cache-Control"] == "no-store"
        given = answer.json
        assert (given["token_type"], given["expires_in"], given["scope"]) == (
            "Bearer",
            3600,
            "read",
        )
        assert shown(web, f"Bearer {given['access_token']}") == 200
        asked = web.post(
            "/api/v1/lists",
            json={"name": "A"},
            headers={"Authorization": f"Bearer {given['access_token']}"},
        )
        assert asked.status_code == 403 and "may not do this" in asked.json["error"]

    def test_what_is_no_key_gets_none_and_a_token_gets_no_other(self, web, key):
        given = self.token(web, f"Bearer {key}").json["access_token"]
        for header in ("", "Bearer ", "Bearer key_nobody", f"Basic {key}", f"Bearer {given}"):
            assert self.token(web, header).status_code == 403, header

    def test_a_token_ends_by_itself_and_with_its_key(self, web, database, settings, key):
        given = self.token(web, f"Bearer {key}").json["access_token"]
        with database.session() as session:
            ident = session.scalar(sa.select(ApiKey.id))
        hour = dt.timedelta(hours=1)
        for age, works in (
            (hour - dt.timedelta(seconds=5), 200),
            (hour + dt.timedelta(seconds=2), 403),
        ):
            old = signing.program_token(settings.secret, ident, clock.machine_now() - age)
            assert shown(web, f"Bearer {old}") == works
        web.post(f"/connections/{ident}/retire")
        assert shown(web, f"Bearer {given}") == 403

    def test_nobody_else_can_make_one(self, web, settings, key):
        given = self.token(web, f"Bearer {key}").json["access_token"]
        number, until, mac = given.removeprefix("token_").split(".")
        stranger = signing.program_token("another secret", int(number), clock.machine_now())
        for forged in (
            stranger,
            f"token_{number}.{int(until) + 1}.{mac}",
            f"token_{int(number) + 1}.{until}.{mac}",
            f"token_{number}.{until}.",
            f"token_{number}.{until}.{'0' * 64}",
            "token_",
            "token_²",
            f"token_{number}.{until}.{mac}\n",
        ):
            assert shown(web, f"Bearer {forged}".replace("\n", " x")) == 403, forged


def test_a_key_of_websites_names_their_addresses(web, database):
    page = make(
        web,
        name="Website",
        kind="site",
        origins="https://farrowhill.example/shop, http://127.0.0.1:8461",
    )
    assert "https://farrowhill.example, http://127.0.0.1:8461" in words(page.text)
    with database.session() as session:
        made = session.scalar(sa.select(ApiKey))
    assert made.origins == ["https://farrowhill.example", "http://127.0.0.1:8461"]
    assert f'data-key="{made.key_hash}"' in page.text.replace("&#34;", '"')


def test_a_key_may_do_what_it_was_given_and_no_more(web, database):
    """Every endpoint is asked with a key of each scope: only that of its own gets past the door."""
    keys = {
        scope: re.search(
            r"key_[\w-]{20,}", make(web, name=scope, kind="secret", may=[scope]).text
        ).group()
        for scope in SCOPES
    }
    for path, methods in PATHS.items():
        for method, operation in methods.items():
            if path == "/api/v1/token":
                continue
            (needed,) = operation["security"][0]["key"]
            asked = re.sub(r"\{\w+\}", "999999", path)
            for scope, key in keys.items():
                answer = web.open(
                    asked,
                    method=method.upper(),
                    json={},
                    headers={"Authorization": f"Bearer {key}"},
                )
                kept_out = answer.status_code == 403 and "may not do this" in answer.text
                assert kept_out == (scope != needed), (method, path, scope, answer.text[:200])
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM contacts")) == 0


@pytest.mark.parametrize(
    ("method", "rule", "scope"),
    [
        ("get", "/v1/contacts", "read"),
        ("put", "/v1/contacts", "people"),
        ("delete", "/v1/contacts/<int:ident>", "erase"),
        ("post", "/v1/contacts/<int:ident>/merge", "erase"),
        ("post", "/v1/events", "events"),
        ("put", "/v1/events/kinds/<key>", "fields"),
        ("post", "/v1/segments/count", "read"),
        ("post", "/v1/segments", "segments"),
        ("post", "/v1/imports", "people"),
        ("put", "/v1/suppressions", "people"),
        ("post", "/v1/contacts/<int:ident>/points", "people"),
        ("post", "/v1/merges/<int:ident>/undo", "erase"),
    ],
)
def test_scopes(method, rule, scope):
    assert scope_of(method, rule) == scope


def test_a_key_ends(web, database):
    key = re.search(
        r"key_[\w-]{20,}", make(web, name="A", kind="secret", may=["read"], days="90").text
    ).group()
    assert shown(web, f"Bearer {key}") == 200
    with database.session() as session:
        left = session.scalar(sa.text("SELECT ends_at - now() FROM api_keys"))
        assert abs(left - dt.timedelta(days=90)) < dt.timedelta(minutes=5)
        session.execute(sa.text("UPDATE api_keys SET ends_at = now() - interval '1 second'"))
    assert shown(web, f"Bearer {key}") == 403


@pytest.mark.parametrize(
    ("form", "says"),
    [
        ({"name": "A", "kind": "secret"}, "Tick what the key may do."),
        ({"name": "A", "kind": "secret", "may": ["all"]}, "Tick what the key may do."),
        (
            {"name": "A", "kind": "secret", "may": ["read"], "days": "9"},
            "Choose how long the key works.",
        ),
        ({"name": " ", "kind": "secret"}, "Say what the key is for."),
        ({"name": "A", "kind": "door"}, "for the API or for a website"),
        ({"name": "A", "kind": "site"}, "Give the address of the website"),
        (
            {"name": "A", "kind": "site", "origins": "farrowhill.example"},
            "“farrowhill.example” is not the address of a website",
        ),
    ],
)
def test_what_is_wrong_is_said_and_kept(web, database, form, says):
    answer = web.post("/connections", data=form)
    assert answer.status_code == 422 and says in words(answer.text)
    assert all(
        f'value="{form[name]}"' in answer.text for name in ("name", "origins") if form.get(name)
    )
    with database.session() as session:
        assert session.scalar(sa.select(sa.func.count()).select_from(ApiKey)) == 0


def test_authors_look_and_administrators_make(client):
    sign_in(client, "author")
    assert (
        client.get("/connections").status_code == 200
        and "A new key" not in client.get("/connections").text
    )
    assert client.post("/connections", data={"name": "A", "kind": "secret"}).status_code == 403
    assert client.post("/connections/1/retire").status_code == 403
