"""Keys of the API and of websites: made by an administrator, shown once, used, retired; what is wrong keeps what was typed."""

import re

import pytest
import sqlalchemy as sa

from meadowrun.base.audit import AuditRow
from meadowrun.tracking.models import ApiKey
from tests.store.web import sign_in, words


def make(web, **form):
    return web.post("/connections", data=form, follow_redirects=True)


def test_a_key_of_the_api_is_shown_once_and_works(web, database):
    shown = make(web, name=" Ticket  office ", kind="secret")
    key = re.search(r"key_[\w-]{20,}", shown.text).group()
    assert "“Ticket office” can be used now" in words(shown.text) and "shown only once" in shown.text
    assert key not in web.get("/connections").text
    with database.session() as session:
        assert key not in session.scalars(sa.select(ApiKey.key_hash)).all(), "only its hash is kept"
        row = session.scalar(sa.select(AuditRow).where(AuditRow.did == "made the key"))
        assert (row.object_name, row.detail) == ("Ticket office", {"kind": "secret"})
    ask = lambda: web.get("/api/v1/contacts", headers={"Authorization": f"Bearer {key}"}).status_code  # noqa: E731
    assert ask() == 200
    ident = int(re.search(r"/connections/(\d+)/retire", web.get("/connections").text).group(1))
    assert "no longer works" in web.post(f"/connections/{ident}/retire", follow_redirects=True).text
    assert ask() == 403 and web.post("/connections/99/retire").status_code == 404


def test_a_key_of_websites_names_their_addresses(web, database):
    shown = make(web, name="Website", kind="site", origins="https://farrowhill.example/shop, http://127.0.0.1:8461")
    assert "https://farrowhill.example, http://127.0.0.1:8461" in words(shown.text)
    with database.session() as session:
        made = session.scalar(sa.select(ApiKey))
    assert made.origins == ["https://farrowhill.example", "http://127.0.0.1:8461"]
    assert f'data-key="{made.key_hash}"' in shown.text.replace("&#34;", '"')


@pytest.mark.parametrize(("form", "says"), [
    ({"name": " ", "kind": "secret"}, "Say what the key is for."), ({"name": "A", "kind": "door"}, "for the API or for a website"),
    ({"name": "A", "kind": "site"}, "Give the address of the website"),
    ({"name": "A", "kind": "site", "origins": "farrowhill.example"}, "“farrowhill.example” is not the address of a website")])
def test_what_is_wrong_is_said_and_kept(web, database, form, says):
    answer = web.post("/connections", data=form)
    assert answer.status_code == 422 and says in words(answer.text)
    assert all(f'value="{form[name]}"' in answer.text for name in ("name", "origins") if form.get(name))
    with database.session() as session:
        assert session.scalar(sa.select(sa.func.count()).select_from(ApiKey)) == 0


def test_authors_look_and_administrators_make(client):
    sign_in(client, "author")
    assert client.get("/connections").status_code == 200 and "A new key" not in client.get("/connections").text
    assert client.post("/connections", data={"name": "A", "kind": "secret"}).status_code == 403
    assert client.post("/connections/1/retire").status_code == 403
