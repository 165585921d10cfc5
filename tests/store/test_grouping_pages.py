"""Groupings: groups in order, everyone in exactly one, pages and guards."""

import pytest

from meadowrun.base.cache import forget
from meadowrun.core.audience.edit import new_id
from meadowrun.people import actions as people
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


def group(web, name, *lines, key="", version=None, ident=1):
    return web.post(
        f"/groupings/{ident}/save",
        json={"group": key, "name": name, "version": version, "definition": {"lines": list(lines)}},
    )


@pytest.fixture
def halves(web, towns):
    web.post("/groupings", data={"name": "Halves"})
    group(web, "Keen", line("score", "at_least", 9))
    group(web, "Farrow", line("town", "is", ["farrow"]))


def test_everyone_is_in_exactly_one_part(web, halves):
    shown = words(web.get("/groupings/1").text)
    assert "Keen Everyone whose score is at least 9. 2" in shown
    assert "1 more match, but are in a group before it 1" in shown and "always there 2" in shown
    assert "1 person matches more than one group" in shown
    assert "Keen, Farrow, everyone else" in words(web.get("/groupings").text)


def test_the_order_decides(web, halves, database):
    from meadowrun.segments.models import Grouping

    with database.session() as session:
        keys = [p["key"] for p in session.get_one(Grouping, 1).groups]
    web.post("/groupings/1/down", data={"key": keys[0]})
    forget()
    shown = words(web.get("/groupings/1").text)
    assert shown.index("Everyone whose town") < shown.index("Everyone whose score")
    assert "Everyone whose town is farrow. 2" in shown


def test_a_part_is_a_line_of_a_segment_and_then_stays(web, halves, database):
    from meadowrun.segments.models import Grouping

    with database.session() as session:
        key = session.get_one(Grouping, 1).groups[1]["key"]
    made = web.post(
        "/segments/save",
        json={
            "name": "S",
            "definition": {"lines": [{"id": "a", "kind": "grouping", "grouping": 1, "group": key}]},
        },
    )
    assert "P0" in words(web.get(made.json["to"] + "/people").text)
    web.post("/groupings/1/remove", data={"key": key})
    assert "“Farrow” is used by S" in words(web.get("/groupings/1").text)
    assert web.post("/groupings/1/delete").location == "/groupings/1"
    circle = group(web, "Circle", {"id": "a", "kind": "segment", "segment": 1})
    assert circle.status_code == 422 and "circle" in circle.json["error"]


def test_parts_are_written_on_the_segments_page(web, halves):
    assert 'data-save="/groupings/1/save"' in web.get("/groupings/1/groups/new").text
    assert web.get("/groupings/1/groups/nothere").status_code == 404


@pytest.mark.parametrize(
    ("name", "lines", "says"),
    [
        (" ", [line("town", "is", ["x"])], "Give the group a name"),
        ("Empty", [], "at least one line"),
        ("keen", [line("town", "is", ["x"])], "called “keen” already"),
        ("Bad", [line("county", "is", ["x"])], "no field called"),
    ],
)
def test_what_is_no_part(web, halves, name, lines, says):
    answer = group(web, name, *lines)
    assert answer.status_code == 422 and says in answer.json["error"]


def test_names_versions_and_roles(client, web, halves):
    assert web.post("/groupings", data={"name": "Halves"}).status_code == 409
    assert group(web, "Late", line("town", "blank", None), version=1).status_code == 409
    web.post("/groupings/1/rename", data={"name": "Thirds"})
    assert "Thirds" in web.get("/groupings").text
    sign_in(client, "viewer")
    assert client.post("/groupings", data={"name": "X"}).status_code == 403


def test_those_who_match_several_are_counted_once_and_listed(web, halves):
    # P1 is keen, from Farrow, and matches a third group, too: one person, not two.
    group(web, "High", line("score", "at_least", 5))
    forget()
    shown = words(web.get("/groupings/1").text)
    assert "2 people match more than one group" in shown
    listed = words(web.get("/groupings/1/several").text)
    assert (
        "2 people match more than one group" in listed
        and "P1" in listed
        and "P2" in listed
        and "P0" not in listed
    )
    assert "Keen Farrow, High" in listed and "Keen High" in listed
    assert "P1" not in words(web.get("/groupings/1/several?after=2").text)


def test_a_definition_that_is_no_object_is_refused(web):
    web.post("/groupings", data={"name": "Tiers"})
    answer = web.post("/groupings/1/save", json={"definition": "copy", "group": "a", "name": "x"})
    assert answer.status_code == 422 and answer.json["where"] == "definition"
