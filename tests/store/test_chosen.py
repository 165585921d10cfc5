"""People chosen in the table: tagged, put on a list, written to, taken along."""

import csv
import io
import re

import pytest
import sqlalchemy as sa

from meadowrun.people import keeping
from meadowrun.people.models import PeopleList
from tests.conftest import NOW
from tests.store.people import IDA, many
from tests.store.web import sign_in


@pytest.fixture
def world(web, database):
    with database.session() as session:
        many(session, NOW, 5)
        keeping.make_list(session, IDA, NOW, "Volunteers", "by hand", [1])
    return web


def act(web, deed, *contacts, **more):
    return web.post("/people/chosen", data={"do": deed, "contact": [*map(str, contacts)], **more})


def members(database, name):
    with database.session() as session:
        asked = sa.select(PeopleList.id).where(PeopleList.name == name)
        listed = sa.text("SELECT contact_id FROM list_members WHERE list_id = :id ORDER BY 1")
        return session.scalars(listed, {"id": session.scalar(asked)}).all()


def tagged(database):
    with database.session() as session:
        asked = "SELECT contact_id, path FROM contact_tags JOIN tags ON id = tag_id ORDER BY 1, 2"
        return [tuple(row) for row in session.execute(sa.text(asked))]


def said(web, answer):
    assert answer.status_code == 303
    return web.get(answer.location).text


def test_they_are_tagged(world, database):
    assert "Tagged: new to 2 people." in said(world, act(world, "tag", 2, 4, tags="keen, vip"))
    assert tagged(database) == [(2, "keen"), (2, "vip"), (4, "keen"), (4, "vip")]
    assert "new to 1 person" in said(world, act(world, "tag", 2, 5, tags="keen"))
    assert "Give a tag" in said(world, act(world, "tag", 2, tags=" "))


def test_they_are_put_on_a_list(world, database):
    answer = act(world, "list", 1, 3, list="1")
    assert "2 people put on “Volunteers”." in said(world, answer)
    assert members(database, "Volunteers") == [1, 3]
    act(world, "list", 2, name="Fresh")
    assert members(database, "Fresh") == [2]
    assert "or name a new one" in said(world, act(world, "list", 2))


def test_they_are_written_to(world, database):
    answer = act(world, "write", 3, 5)
    assert "Write to “Chosen: 2 people”" in said(world, answer)
    assert members(database, "Chosen: 2 people") == [3, 5]


def test_they_are_taken_along(world):
    answer = act(world, "csv", 2, 3)
    rows = list(csv.DictReader(io.StringIO(answer.get_data(as_text=True).lstrip("\ufeff"))))
    assert len(rows) == 2 and answer.mimetype == "text/csv"


def test_nobody_chosen_is_said_and_the_table_stays_as_it_was(world):
    answer = act(world, "tag", tags="keen", sort="added", at="x")
    assert "sort=added" in answer.location and "at=x" in answer.location
    assert "Choose people first" in said(world, answer)


def test_whoever_only_looks_chooses_nobody(client, database):
    with database.session() as session:
        many(session, NOW, 1)
    sign_in(client, "viewer")
    assert 'name="contact"' not in client.get("/people").text
    assert act(client, "tag", 1, tags="keen").status_code == 403
    assert tagged(database) == []


def consents(database):
    asked = "SELECT contact_id, channel, agreed, how FROM consents ORDER BY 1, 2"
    with database.session() as session:
        return [tuple(row) for row in session.execute(sa.text(asked))]


def test_what_they_said_is_noted_with_how(world, database):
    with database.session() as session:
        session.execute(sa.text("DELETE FROM consents"))
    more = {"agreed": "yes", "channel": "sms", "how": "on paper"}
    assert "2 people newly agreed" in said(world, act(world, "consent", 2, 3, **more))
    assert consents(database) == [(2, "sms", True, "on paper"), (3, "sms", True, "on paper")]
    more |= {"agreed": "no", "how": "by phone"}
    assert "1 person newly refused" in said(world, act(world, "consent", 3, **more))
    assert consents(database)[-1] == (3, "sms", False, "by phone")
    for wrong in ({"how": " "}, {"channel": "pigeon"}):
        assert act(world, "consent", 4, **(more | wrong)).status_code == 303
    assert len(consents(database)) == 2


def people_left(database):
    with database.session() as session:
        return session.scalars(sa.text("SELECT id FROM contacts ORDER BY id")).all()


def test_they_are_erased_by_whoever_may(world, database, client):
    assert "Erased for good: 2 people." in said(world, act(world, "erase", 2, 5))
    assert people_left(database) == [1, 3, 4]
    with database.session() as session:
        session.execute(sa.text("UPDATE users SET role = 'author'"))
    assert act(world, "erase", 1).status_code in (303, 403)
    assert people_left(database) == [1, 3, 4]


def test_everybody_who_is_found_is_meant_not_only_the_page(world, database):
    with database.session() as session:
        many(session, NOW, 70, "more")
        moved = "UPDATE contacts SET last_name = 'Moor', search_key = 'moor' WHERE id > 20"
        session.execute(sa.text(moved))
    found = world.post("/people", data={"q": "moor"}).location
    page = world.get(found).text
    search = re.search(r'name="search" value="([^"]+)"', page)[1]
    with database.session() as session:
        moors = session.scalars(
            sa.text("SELECT id FROM contacts WHERE last_name = 'Moor' ORDER BY id")
        ).all()
    assert f"all {len(moors)} people found, on every page" in re.sub(r"\s+", " ", page)
    assert len(moors) > 50
    act(world, "tag", moors[0], tags="moor", everybody="yes", search=search)
    assert [one for one, _ in tagged(database)] == moors
    # Too many to erase at once: none is.
    act(world, "tag", tags="x", everybody="yes")
    with database.session() as session:
        many(session, NOW, 150, "yet")
    before = people_left(database)
    assert "Choose at most 200 people" in said(world, act(world, "erase", everybody="yes"))
    assert people_left(database) == before
