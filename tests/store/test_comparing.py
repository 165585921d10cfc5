"""Segments, lists and groups beside each other: what they share, kept as a segment or a list."""

import re

import pytest
import sqlalchemy as sa

from meadowrun.people import keeping
from meadowrun.people.models import PeopleList
from meadowrun.segments.models import Grouping, Segment
from tests.conftest import NOW
from tests.store.people import IDA, many


@pytest.fixture
def world(web, database):
    """Six people; a segment of 1 to 4 (town A), a list of 3 to 5, a grouping of town A and else."""
    with database.session() as session:
        many(session, NOW, 6)
        session.execute(sa.text("UPDATE contacts SET town = CASE WHEN id < 5 THEN 'A' END"))
        lines = [{"id": "t", "kind": "field", "field": "town", "op": "is", "value": ["A"]}]
        session.add(_segment(lines))
        keeping.make_list(session, IDA, NOW, "Volunteers", "by hand", [3, 4, 5])
        session.add(
            Grouping(
                name="Regions",
                version=1,
                groups=[{"key": "a", "name": "In A", "lines": lines}],
                created_at=NOW,
                changed_at=NOW,
                changed_by="Ida",
            )
        )
    return web


def _segment(lines):
    return Segment(
        name="Of A",
        definition={"format": 1, "lines": lines},
        version=1,
        created_at=NOW,
        changed_at=NOW,
        changed_by="Ida",
    )


def parts(web, *of):
    """Each part that is shown, with its people."""
    page = web.get("/segments/compare", query_string={"of": of}).text
    rows = re.findall(r"<td>(in .*?)</td>\s*<td class=\"num\"><b>(\d+)</b>", page, re.S)
    return {" ".join(said.split()): int(count) for said, count in rows}


def test_a_segment_beside_a_list(world):
    assert parts(world, "segment:1", "list:1") == {
        "in “Of A” and “Volunteers”": 2,
        "in “Of A”, not in “Volunteers”": 2,
        "in “Volunteers”, not in “Of A”": 1,
    }


def test_a_group_beside_everyone_else_and_a_list(world):
    found = parts(world, "grouping:1:a", "grouping:1:else", "list:1")
    assert found == {
        "in “In A” and “Volunteers”, not in “everyone else”": 2,
        "in “everyone else” and “Volunteers”, not in “In A”": 1,
        "in “In A”, not in “everyone else” nor “Volunteers”": 2,
        "in “everyone else”, not in “In A” nor “Volunteers”": 1,
    }


def keep(web, region, how, *of):
    data = {"of": list(of), "region": region, "name": "Difference", "as": how}
    return web.post("/segments/compare", data=data)


def test_a_difference_is_kept_as_a_list_of_now(world, database):
    assert keep(world, "10", "list", "list:1", "segment:1").status_code == 303
    with database.session() as session:
        ident = session.scalar(sa.select(PeopleList.id).where(PeopleList.name == "Difference"))
        asked = sa.text("SELECT contact_id FROM list_members WHERE list_id = :id")
        assert session.scalars(asked, {"id": ident}).all() == [5]


def test_a_difference_is_kept_as_a_segment_that_follows(world, database):
    assert keep(world, "01", "", "list:1", "segment:1").status_code == 303
    with database.session() as session:
        found = session.scalar(sa.select(Segment).where(Segment.name == "Difference"))
        session.execute(sa.text("UPDATE contacts SET town = 'A' WHERE id = 6"))
        ident = found.id
    page = world.get(f"/segments/{ident}/people").text
    assert sorted(int(one) for one in set(re.findall(r'href="/people/(\d+)"', page))) == [1, 2, 6]


def test_a_bare_number_is_a_segment_and_what_is_gone_is_said(world):
    assert parts(world, "1", "list:1")["in “Of A” and “Volunteers”"] == 2
    for gone in ("list:9", "grouping:1:north", "segment:x", "people:1"):
        answer = world.get("/segments/compare", query_string={"of": ["1", gone]})
        assert answer.status_code == 404


def test_a_segment_with_an_error_is_said(world, database):
    with database.session() as session:
        broken = [{"id": "x", "kind": "field", "field": "gone", "op": "is", "value": ["A"]}]
        session.execute(sa.update(Segment).values(definition={"format": 1, "lines": broken}))
    answer = world.get("/segments/compare", query_string={"of": ["1", "list:1"]})
    assert answer.status_code == 409
    assert 'role="alert"' in answer.text


def test_no_part_is_no_choice(world):
    for region in ("", "00", "111", "1"):
        assert keep(world, region, "list", "list:1", "segment:1").status_code in (303, 422)
