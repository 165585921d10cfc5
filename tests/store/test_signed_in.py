"""Being signed in: it ends when nobody uses it, is noted, and leaves nothing in the browser; a new key is shown once and carried by no cookie."""

import datetime as dt
import re

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.shell import accounts
from tests.store.web import sign_in, words


def idle(database, **ago):
    with database.session() as session:
        session.execute(sa.text("UPDATE sign_ins SET seen_at = :at"), {"at": clock.machine_now() - dt.timedelta(**ago)})


def test_a_sign_in_that_nobody_uses_ends(web, database):
    idle(database, hours=11)
    assert web.get("/people").status_code == 200, "used in time it goes on"
    with database.session() as session:
        assert clock.machine_now() - session.scalar(sa.text("SELECT seen_at FROM sign_ins")) < dt.timedelta(minutes=1)
    idle(database, hours=13)
    assert web.get("/people").status_code == 302


def test_looking_again_and_again_writes_little(web, database):
    idle(database, minutes=3)
    with database.session() as session:
        before = session.scalar(sa.text("SELECT seen_at FROM sign_ins"))
    web.get("/people")
    with database.session() as session:
        assert session.scalar(sa.text("SELECT seen_at FROM sign_ins")) == before


def test_who_came_in_and_who_was_refused_is_noted_beside_what_was_changed(web):
    sign_in(web, "author", "the wrong one")
    sign_in(web)
    said = words(web.get("/changes").text)
    assert "refused a sign-in of user “author@farrowhill.example”" in said and "Admin signed in" in said
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
    answer = web.post("/connections", data={"name": "Till", "kind": kind, "origins": "https://farrowhill.example", "may": ["read"]})
    assert answer.status_code == 200 and ("shown only once" in answer.text) == (kind == "secret")
    found = re.search(r"only once:</b> <code>([^<]{20,})</code>", answer.text)
    assert bool(found) == (kind == "secret")
    if found:
        with web.session_transaction() as kept:
            assert found[1] not in str(dict(kept)) and found[1] not in str(answer.headers)
    assert "shown only once" not in web.get("/connections").text


def test_the_limits_are_as_promised():
    assert dt.timedelta(hours=24) >= accounts.IDLE and dt.timedelta(days=30) >= accounts.LASTS
