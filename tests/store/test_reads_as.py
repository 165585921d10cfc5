"""As whom a message is read: whoever a colleague chose last is who they read the next one as."""

import re

import pytest
import sqlalchemy as sa

from tests.conftest import NOW
from tests.store.people import many, ready_send
from tests.store.sending import segment
from tests.store.web import sign_in


@pytest.fixture
def world(client, database):
    sign_in(client)
    with database.session() as session:
        many(session, NOW, 5)
        ready_send(session, NOW, {"in": [], "out": []})
        segment(session)
    return client


def person(web, path="/messages/1"):
    page = web.get(path).text
    return int(re.search(r'data-person="(\d+)"', page)[1])


def test_it_is_whoever_was_chosen_last(world, database):
    usual = person(world)
    other = 4 if usual != 4 else 3
    answer = world.post("/messages/reads-as", json={"person": other, "segment": 1})
    assert answer.json == {"kept": True}
    assert person(world) == other
    assert re.search(r'<option\s+value="1"[^>]*selected', world.get("/messages/1").text)
    # Whom the address names goes before; that is no choice for the next time.
    assert person(world, "/messages/1?as=2") == 2
    assert person(world) == other


def test_whoever_is_gone_is_not_shown(world, database):
    world.post("/messages/reads-as", json={"person": 4})
    with database.session() as session:
        session.execute(sa.text("DELETE FROM contacts WHERE id = 4"))
    assert person(world) in (1, 2, 3, 5)


@pytest.mark.parametrize(
    "given", [{}, {"person": "x"}, {"person": -1}, {"person": 9**30}, {"a": 1}]
)
def test_rubbish_is_no_choice(world, given):
    usual = person(world)
    assert world.post("/messages/reads-as", json=given).status_code == 200
    assert person(world) == usual


def test_each_colleague_has_their_own(world, second):
    usual = person(world)
    other = 5 if usual != 5 else 4
    world.post("/messages/reads-as", json={"person": other})
    assert (person(world), person(second)) == (other, usual)
