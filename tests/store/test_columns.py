"""The columns of the table of people: chosen by each colleague for themselves, and taken along."""

import csv
import io
import re

import pytest
import sqlalchemy as sa

from meadowrun.people import columns
from meadowrun.people.models import Field
from tests.conftest import NOW
from tests.store.people import many


@pytest.fixture
def world(web, database):
    with database.session() as session:
        many(session, NOW, 3)
        session.add(Field(owner="contact", key="fee", label="fee", type="number", created_at=NOW))
        session.execute(
            sa.text(
                "UPDATE contacts SET attributes = '{\"fee\": 1250}', phone = '+44 1', town = 'Tarn'"
            )
        )
    return web


def heads(web):
    table = re.search(r"<thead>.*?</thead>", web.get("/people").text, re.S)[0]
    return [one.strip() for one in re.findall(r"<th>([^<]*)</th>", table) if one.strip()]


def test_the_usual_ones_stand_until_somebody_chooses(world):
    assert heads(world) == ["Name", "Email address", "Town", "Company", "Fee", "Added"]


def test_a_colleague_sees_what_they_chose_and_the_others_what_they_saw(world, database):
    answer = world.post("/people/columns", data={"column": ["own.fee", "phone"]})
    assert answer.status_code == 303
    assert heads(world) == ["Name", "Phone", "Fee"]
    assert "1,250" in world.get("/people").text
    with database.session() as session:
        assert [one.key for one in columns.chosen(session, 99)][0] == "email"
    world.post("/people/columns", data={})
    assert heads(world)[1] == "Email address"


def test_too_many_and_unknown_columns_do_no_harm(world, database):
    every = ["email", "phone", "town", "company", "reference", "language", "timezone"]
    world.post("/people/columns", data={"column": [*every, "created_at", "own.fee", "own.x", "id"]})
    assert len(heads(world)) == 1 + columns.MOST
    world.post("/people/columns", data={"column": ["password_hash"]})
    assert heads(world)[1] == "Email address"


def test_a_field_that_is_gone_leaves_the_choice(world, database):
    world.post("/people/columns", data={"column": ["town", "own.fee"]})
    with database.session() as session:
        session.execute(sa.text("DELETE FROM fields"))
    assert heads(world) == ["Name", "Town"]


def test_what_is_seen_is_taken_along(world):
    world.post("/people/columns", data={"column": ["own.fee", "town", "created_at"]})
    answer = world.post("/people/seen.csv", data={})
    rows = list(csv.reader(io.StringIO(answer.get_data(as_text=True).lstrip("\ufeff"))))
    assert rows[0] == ["first name", "last name", "Town", "Added", "Fee"]
    assert len(rows) == 4
    assert rows[1][2:] == ["Tarn", "2026-11-23", "1250"]
