"""What somebody changed themselves is in every number they are shown next; what others changed may
come some seconds later."""

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, large, own_writes
from meadowrun.base.cache import forget
from meadowrun.base.kept import Kept
from meadowrun.shell.keys import hash_key
from meadowrun.shell.models import ApiKey
from tests.conftest import NOW
from tests.store.people import add

TARN = {
    "definition": {
        "lines": [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Tarn"]}]
    }
}


@pytest.fixture
def keys(database, client):
    """Two programs with a key each; one contact lives in Tarn."""
    with clock.at(NOW), database.session() as session:
        for name in ("desk", "till"):
            session.add(
                ApiKey(name=name, kind="secret", key_hash=hash_key(f"key_{name}"), created_at=NOW)
            )
        add(session, NOW, "ann@post.example", town="Tarn")
    forget()

    def call(who, method, path, body=None):
        return getattr(client, method)(
            f"/api/v1{path}", json=body, headers={"Authorization": f"Bearer key_{who}"}
        ).json

    return call


def test_a_count_follows_ones_own_change_at_once_and_says_as_of_when(keys, database):
    first = keys("desk", "post", "/segments/count", TARN)
    assert first["size"] == 1
    keys("till", "put", "/contacts", {"email": "bo@post.example", "town": "Tarn"})
    # The other program's count is kept, and says of when it is; the one that wrote sees what it
    # wrote.
    assert keys("desk", "post", "/segments/count", TARN) | {"steps": []} == first | {"steps": []}
    own = keys("till", "post", "/segments/count", TARN)
    assert own["size"] == 2 and own["as_of"] > first["as_of"]
    # Now that it was worked out anew, it is for everybody.
    assert keys("desk", "post", "/segments/count", TARN)["as_of"] == own["as_of"]


def test_members_by_page_follow_too(keys, web):
    ident = keys("desk", "post", "/segments", {"name": "In Tarn", **TARN})["id"]
    path = f"/segments/{ident}/members"
    assert [c["email"] for c in keys("desk", "get", path)["items"]] == ["ann@post.example"]
    keys("desk", "put", "/contacts", {"email": "bo@post.example", "town": "Tarn"})
    again = keys("desk", "get", path)
    assert [c["email"] for c in again["items"]] == [
        "ann@post.example",
        "bo@post.example",
    ] and again["as_of"]


def test_a_page_follows_what_was_changed_on_another_page(keys, web, database):
    ident = keys("desk", "post", "/segments", {"name": "In Tarn", **TARN})["id"]

    def size():
        return web.post("/segments/look", json={"segment": ident, **TARN}).json

    before = size()
    web.post("/people/new", data={"email": "cy@post.example", "town": "Tarn"})
    assert str(before) != str(size())
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(*) FROM contacts")) == 2
        assert session.scalars(sa.text("SELECT who FROM own_writes ORDER BY who")).all() == [
            "API key “desk”",
            "Admin",
        ]


def test_what_may_lag_in_a_large_world_follows_ones_own_change_in_a_small_one(
    database, monkeypatch
):
    made = []
    kept = Kept(seconds=300, worth=0.0, name="test", large=3600, whatever=True)

    def asked():
        with database.session() as session:
            own_writes.look_as("Ida")
            return kept.get(session, "k", NOW, lambda: made.append(1) or len(made))[0]

    assert asked() == asked() == 1
    with database.session() as session:
        own_writes.note(session, "Ida")
    assert asked() == 2, "in a small world it is worked out anew for whoever changed something"
    monkeypatch.setattr(large, "LARGE", -2)
    assert asked() == 2
    with database.session() as session:
        own_writes.note(session, "Ida")
    assert asked() == 2, "in a large one nobody waits for it"
    own_writes.look_as("")
