"""People chosen in the table: tagged, put on a list, written to, taken along."""

import csv
import io

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
