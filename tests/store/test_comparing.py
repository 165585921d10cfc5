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
        session.add(_grouping("Regions", "a", "In A", lines))
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


def _grouping(name, key, group, lines):
    """A grouping of one group and everyone else."""
    return Grouping(
        name=name,
        version=1,
        groups=[{"key": key, "name": group, "lines": lines}],
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


def test_two_groupings_beside_each_other(world, database):
    """Of six people four are of town A, and three volunteer: 3 and 4 of town A, and 5."""
    with database.session() as session:
        lines = [{"id": "v", "kind": "list", "list": 1, "inside": True}]
        session.add(_grouping("Help", "v", "Volunteers", lines))
    page = world.get("/groupings/compare?of=1&of=2").text
    body = re.search(r"<tbody>(.*?)</tbody>", page, re.S)[1]
    rows = [re.findall(r">\s*(\d+)\s*<", row) for row in re.findall(r"<tr>(.*?)</tr>", body, re.S)]
    assert rows == [["2", "2", "4"], ["1", "1", "2"]]
    foot = re.search(r"<tfoot>(.*?)</tfoot>", page, re.S)[1]
    assert re.findall(r"(\d+)</td>", foot) == ["3", "3", "6"]
    # A number leads to both groups, where those in both can be kept.
    link = re.search(r'href="(/segments/compare\?[^"]*)"', body)[1].replace("&amp;", "&")
    assert "in “In A” and “Volunteers”" in world.get(link).text


def test_one_grouping_alone_asks_for_a_second_one(world):
    page = world.get("/groupings/compare").text
    assert "There are not two groupings yet" in page
    assert world.get("/groupings/compare?of=99&of=1").status_code == 200
