"""Partitions: parts in order, everyone in exactly one, pages and guards."""

import pytest

from meadowrun.core.audience.edit import new_id
from meadowrun.people import actions as people
from meadowrun.segments.sets import forget
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import sign_in, words


@pytest.fixture
def towns(database):
    with database.session() as session:
        people.add_field(session, IDA, NOW, "contact", "score", "number", [])
        for n, (town, score) in enumerate(
            [("Farrow", 1), ("Farrow", 9), ("Tarnside", 9), ("Tarnside", 2), (None, None)]
        ):
            add(session, NOW, f"p{n}@post.example", first_name=f"P{n}", town=town, score=score)
    forget()


def line(ref, op, value):
    return {"id": new_id(), "kind": "field", "field": ref, "op": op, "value": value}


def part(web, name, *lines, key="", version=None, ident=1):
    return web.post(
        f"/partitions/{ident}/save",
        json={"part": key, "name": name, "version": version, "definition": {"lines": list(lines)}},
    )


@pytest.fixture
def halves(web, towns):
    web.post("/partitions", data={"name": "Halves"})
    part(web, "Keen", line("score", "at_least", 9))
    part(web, "Farrow", line("town", "is", ["farrow"]))


def test_everyone_is_in_exactly_one_part(web, halves):
    shown = words(web.get("/partitions/1").text)
    assert "Keen Everyone whose score is at least 9. 2" in shown
    assert "1 more match, but are in a part before it 1" in shown and "always there 2" in shown
    assert "1 person matches more than one part" in shown
    assert "Keen, Farrow, everyone else" in words(web.get("/partitions").text)


def test_the_order_decides(web, halves, database):
    from meadowrun.segments.models import Partition

    with database.session() as session:
        keys = [p["key"] for p in session.get_one(Partition, 1).parts]
    web.post("/partitions/1/down", data={"key": keys[0]})
    forget()
    shown = words(web.get("/partitions/1").text)
    assert shown.index("Everyone whose town") < shown.index("Everyone whose score")
    assert "Everyone whose town is farrow. 2" in shown


def test_a_part_is_a_line_of_a_segment_and_then_stays(web, halves, database):
    from meadowrun.segments.models import Partition

    with database.session() as session:
        key = session.get_one(Partition, 1).parts[1]["key"]
    made = web.post(
        "/segments/save",
        json={
            "name": "S",
            "definition": {"lines": [{"id": "a", "kind": "part", "partition": 1, "part": key}]},
        },
    )
    assert "P0" in words(web.get(made.json["to"] + "/people").text)
    web.post("/partitions/1/remove", data={"key": key})
    assert "“Farrow” is used by S" in words(web.get("/partitions/1").text)
    assert web.post("/partitions/1/delete").location == "/partitions/1"
    circle = part(web, "Circle", {"id": "a", "kind": "segment", "segment": 1})
    assert circle.status_code == 422 and "circle" in circle.json["error"]


def test_parts_are_written_on_the_segments_page(web, halves):
    assert 'data-save="/partitions/1/save"' in web.get("/partitions/1/parts/new").text
    assert web.get("/partitions/1/parts/nothere").status_code == 404


@pytest.mark.parametrize(
    ("name", "lines", "says"),
    [
        (" ", [line("town", "is", ["x"])], "Give the part a name"),
        ("Empty", [], "at least one line"),
        ("keen", [line("town", "is", ["x"])], "called “keen” already"),
        ("Bad", [line("county", "is", ["x"])], "no field called"),
    ],
)
def test_what_is_no_part(web, halves, name, lines, says):
    answer = part(web, name, *lines)
    assert answer.status_code == 422 and says in answer.json["error"]


def test_names_versions_and_roles(client, web, halves):
    assert web.post("/partitions", data={"name": "Halves"}).status_code == 409
    assert part(web, "Late", line("town", "blank", None), version=1).status_code == 409
    web.post("/partitions/1/rename", data={"name": "Thirds"})
    assert "Thirds" in web.get("/partitions").text
    sign_in(client, "viewer")
    assert client.post("/partitions", data={"name": "X"}).status_code == 403


def test_those_who_match_several_are_counted_once_and_listed(web, halves):
    # P1 is keen, from Farrow, and matches a third part, too: one person, not two.
    part(web, "High", line("score", "at_least", 5))
    forget()
    shown = words(web.get("/partitions/1").text)
    assert "2 people match more than one part" in shown
    listed = words(web.get("/partitions/1/several").text)
    assert (
        "2 people match more than one part" in listed
        and "P1" in listed
        and "P2" in listed
        and "P0" not in listed
    )
    assert "Keen Farrow, High" in listed and "Keen High" in listed
    assert "P1" not in words(web.get("/partitions/1/several?after=2").text)


def test_a_definition_that_is_no_object_is_refused(web):
    web.post("/partitions", data={"name": "Tiers"})
    answer = web.post("/partitions/1/save", json={"definition": "copy", "part": "a", "name": "x"})
    assert answer.status_code == 422 and answer.json["where"] == "definition"
