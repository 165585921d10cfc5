"""Tags on people and things: put on, moved, joined, deleted; narrowed by, imported, and asked for
by the API."""

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.campaigns import actions as campaigns
from meadowrun.core.audience import definition as d
from meadowrun.people import duplicates, wholly
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions as segments
from meadowrun.segments import queries
from meadowrun.tags import actions
from meadowrun.tags import queries as tags
from meadowrun.tags.models import Tag
from tests.conftest import NOW
from tests.store.importing import bring_in
from tests.store.people import IDA, add
from tests.store.small_world import ZONE
from tests.store.web import words

LINE = {"id": "t", "kind": "tag", "tag": "season", "inside": True}


@pytest.fixture
def world(database):
    """Ann bears season and season/leonids, Bo season/leonids, Cy seasonal, Di nothing; a campaign
    and a segment bear season/leonids."""
    with clock.at(NOW), database.session() as session:
        people = {
            name: add(session, NOW, f"{name.lower()}@post.example", first_name=name).id
            for name in ("Ann", "Bo", "Cy", "Di")
        }
        for path, names in (("season", "Ann"), ("season/leonids", "Ann Bo"), ("seasonal", "Cy")):
            actions.give(session, IDA, NOW, path, [people[n] for n in names.split()])
        campaigns.save(session, IDA, NOW, {"name": "Leonid nights", "tags": ["season/leonids"]})
        segments.save(session, IDA, NOW, dictionary(session), "Season people", {"lines": [LINE]})
        actions.put_on(session, IDA, NOW, "segment", 1, ["season/leonids"])
    return people


def paths_of(session, people):
    borne = tags.of_contacts(session, people.values())
    return {name: borne.get(ident, []) for name, ident in people.items()}


def number(session, path):
    return session.scalar(sa.select(Tag.id).where(Tag.path == path))


def in_segment(session):
    words = dictionary(session)
    return queries.count(
        Moment(session, words, NOW, ZONE), segments.usable(queries.segment(session, 1), words)
    )


def test_only_what_exists_is_tagged(database, world, web):
    with (
        database.session() as session,
        pytest.raises(NotFound, match="This segment does not exist"),
    ):
        actions.put_on(session, IDA, NOW, "segment", 99, ["a"])
    assert (
        web.post("/tags/on/segment/99", data={"tags": "a"}, follow_redirects=True).status_code
        == 404
    )
    assert web.post("/tags/on/send/1", data={"tags": "a"}).status_code == 422


def test_giving_and_taking_count_only_what_changes(database, world):
    with database.session() as session:
        assert actions.give(session, IDA, NOW, "season", [*world.values(), 99_999]) == 3, (
            "Ann bore it, and nobody has the last number"
        )
        assert actions.take(session, IDA, NOW, "season", list(world.values())) == 4
        assert paths_of(session, world) == {
            "Ann": ["season/leonids"],
            "Bo": ["season/leonids"],
            "Cy": ["seasonal"],
            "Di": [],
        }
        with pytest.raises(Invalid, match="no tag “winter”"):
            actions.take(session, IDA, NOW, "winter", [1])


def test_the_tree_counts_people_once_with_what_lies_within(database, world):
    with database.session() as session:
        assert [(r.tag.path, r.depth, r.contacts, r.things) for r in tags.tree(session)] == [
            ("season", 0, 2, {"campaign": 1, "segment": 1}),
            ("season/leonids", 1, 2, {"campaign": 1, "segment": 1}),
            ("seasonal", 0, 1, {}),
        ]
        assert [
            b[0] for b in tags.bearers(session, session.get_one(Tag, number(session, "season")))
        ] == ["campaign", "segment"]


def test_moving_takes_along_what_lies_within_and_breaks_no_condition(database, world):
    with database.session() as session:
        actions.move(session, IDA, NOW, session.get_one(Tag, number(session, "season")), "Showers")
        assert (
            paths_of(session, world)["Ann"] == ["showers", "showers/leonids"]
            and in_segment(session) == 2
        )
        said = d.parse(queries.segment(session, 1).definition, dictionary(session))
        assert dictionary(session).name("tag", said.lines[0].of) == "showers"


def test_the_path_of_another_makes_one_of_both(database, world):
    with database.session() as session:
        kept = number(session, "seasonal")
        actions.move(
            session, IDA, NOW, session.get_one(Tag, number(session, "season/leonids")), "seasonal"
        )
        assert paths_of(session, world) == {
            "Ann": ["season", "seasonal"],
            "Bo": ["seasonal"],
            "Cy": ["seasonal"],
            "Di": [],
        }
        assert session.execute(sa.text("SELECT tags FROM campaigns")).scalar() == [kept]
        assert in_segment(session) == 1


def test_what_named_a_tag_names_the_one_it_became(database, world):
    with database.session() as session:
        kept = number(session, "seasonal")
        segments.save(
            session,
            IDA,
            NOW,
            dictionary(session),
            "Wrote",
            {
                "lines": [
                    {"id": "m", "kind": "mail", "what": "sent", "of": {"tag": "season"}},
                    {"id": "g", "kind": "group", "match": "any", "lines": [LINE]},
                ]
            },
        )
        actions.move(session, IDA, NOW, session.get_one(Tag, number(session, "season")), "seasonal")
        said = queries.segment(session, 2).definition["lines"]
        assert (said[0]["of"], said[1]["lines"][0]["tag"]) == ({"tag": kept}, kept)
        assert paths_of(session, world) == {
            "Ann": ["seasonal", "seasonal/leonids"],
            "Bo": ["seasonal/leonids"],
            "Cy": ["seasonal"],
            "Di": [],
        }
        assert in_segment(session) == 3


def test_a_tag_that_conditions_name_does_not_go_unseen(database, world):
    with database.session() as session:
        season = session.get_one(Tag, number(session, "season"))
        with pytest.raises(Conflict, match="has tags inside it: season/leonids"):
            actions.delete(session, IDA, NOW, season)
        actions.delete(session, IDA, NOW, session.get_one(Tag, number(session, "season/leonids")))
        with pytest.raises(Conflict, match="named by the segment “Season people”"):
            actions.delete(session, IDA, NOW, season)
        assert session.execute(sa.text("SELECT tags FROM campaigns")).scalar() == []
        assert paths_of(session, world)["Bo"] == [] and in_segment(session) == 1


def test_two_records_made_one_bear_the_tags_of_both_and_part_with_their_own(database, world):
    with clock.at(NOW), database.session() as session:
        duplicates.merge(session, IDA, NOW, world["Ann"], world["Cy"], set())
    with database.session() as session:
        assert tags.of_contacts(session, [world["Ann"]])[world["Ann"]] == [
            "season",
            "season/leonids",
            "seasonal",
        ]
        assert wholly.everything(session, world["Ann"])["tags"] == [
            {"path": p} for p in ("season", "season/leonids", "seasonal")
        ]
        duplicates.undo(session, IDA, NOW, 1)
    with database.session() as session:
        assert paths_of(session, world) == {
            "Ann": ["season", "season/leonids"],
            "Bo": ["season/leonids"],
            "Cy": ["seasonal"],
            "Di": [],
        }


class TestPages:
    def test_a_contact_gets_exactly_what_is_typed(self, web, world, database):
        page = web.post(
            f"/people/{world['Ann']}/tags",
            data={"tags": "Seasonal, desk/called"},
            follow_redirects=True,
        )
        assert all(path in words(page.text) for path in ("seasonal", "desk/called"))
        with database.session() as session:
            assert paths_of(session, world)["Ann"] == ["desk/called", "seasonal"]
        assert (
            "“!” is not a tag"
            in web.post(
                f"/people/{world['Ann']}/tags", data={"tags": "!"}, follow_redirects=True
            ).text
        )

    def test_people_of_a_segment_and_of_a_list(self, web, world, database):
        said = words(
            web.post(
                "/segments/1/tag", data={"tags": "asked", "do": "give"}, follow_redirects=True
            ).text
        )
        assert "2 people got the tag “asked”." in said
        made = web.post(
            "/lists", data={"name": "Hands", "who": "di@post.example\nann@post.example"}
        )
        ident = int(made.headers["Location"].rsplit("/", 1)[1])
        said = words(
            web.post(
                f"/lists/{ident}/tag", data={"tags": "asked", "do": "give"}, follow_redirects=True
            ).text
        )
        assert "1 person got the tag “asked”; 1 person had it already." in said
        assert "was removed from 2 people" in words(
            web.post(
                f"/lists/{ident}/tag", data={"tags": "asked", "do": "take"}, follow_redirects=True
            ).text
        )
        assert (
            "one tag at a time"
            in web.post(
                "/segments/1/tag", data={"tags": "a, b", "do": "give"}, follow_redirects=True
            ).text
        )
        with database.session() as session:
            assert paths_of(session, world)["Bo"] == ["asked", "season/leonids"]

    @pytest.mark.parametrize(
        ("kind", "table", "name"),
        [
            ("campaign", "/campaigns", "Leonid nights"),
            ("segment", "/segments", "Season people"),
            ("list", "/lists", "Hands"),
            ("message", "/messages", "Letter"),
        ],
    )
    def test_tables_are_narrowed_to_a_tag_with_what_lies_within(
        self, web, world, database, kind, table, name
    ):
        web.post("/lists", data={"name": "Hands", "who": "di@post.example"})
        web.post("/messages/new", data={"name": "Letter", "channel": "sms", "how": "empty"})
        assert web.post(f"/tags/on/{kind}/1", data={"tags": "season/late"}).status_code == 303
        with database.session() as session:
            season, seasonal = number(session, "season"), number(session, "seasonal")
        assert name in web.get(f"{table}?tag={season}").text
        other = words(web.get(f"{table}?tag={seasonal}").text)
        assert name not in other and "Only those tagged seasonal" in other
        assert name in web.get(f"{table}?tag=99999").text, "a tag that is gone narrows nothing"

    def test_the_people_of_a_tag(self, web, world, database):
        with database.session() as session:
            season, seasonal = number(session, "season"), number(session, "seasonal")
        shown = words(web.get(f"/people?tag={season}").text)
        assert "Only those tagged season" in shown and "2 people" in shown
        assert all(
            (f"{name}@post.example" in shown) == (name in ("ann", "bo"))
            for name in ("ann", "bo", "cy", "di")
        )
        found = words(
            web.post("/people", data={"tag": season, "q": "bo"}, follow_redirects=True).text
        )
        assert "1 person found" in found and "ann@post.example" not in found
        assert "cy@post.example" in web.get(f"/people?tag={seasonal}&sort=email").text
        assert "4 people" in words(web.get("/people?tag=999").text)
        web.post("/tags", data={"tags": "empty"})
        with database.session() as session:
            empty = number(session, "empty")
        assert "Nobody has this tag" in web.get(f"/people?tag={empty}").text

    def test_the_page_of_a_tag(self, web, world, database):
        with database.session() as session:
            season, seasonal = number(session, "season"), number(session, "seasonal")
        shown = words(web.get(f"/tags/{season}").text)
        assert (
            "2 people have it, or a tag inside it" in shown
            and "the segment “Season people”" in shown
            and "Leonid nights" in shown
        )
        joined = words(
            web.post(f"/tags/{seasonal}/move", data={"path": "season"}, follow_redirects=True).text
        )
        assert (
            "“seasonal” was merged into the other" in joined
            and web.get(f"/tags/{seasonal}").status_code == 404
        )
        assert (
            web.post(
                f"/tags/{season}/describe", data={"meaning": "Comes round each year"}
            ).status_code
            == 303
        )
        assert "Comes round each year" in web.get("/tags").text
        assert "has tags inside it" in words(
            web.post(f"/tags/{season}/delete", follow_redirects=True).text
        )
        assert "who has the tag “season”" in words(
            web.get(f"/segments/new?about=tag:{season}").text
        )
        assert "There is nothing called" in words(web.get("/segments/new?about=moon").text)

    def test_tags_are_added_by_name(self, web, database):
        assert (
            web.post(
                "/tags", data={"tags": "desk/called, desk", "meaning": "By telephone"}
            ).status_code
            == 303
        )
        assert "“!!” is not a tag" in web.post("/tags", data={"tags": "!!"}).text
        assert web.post("/tags", data={"tags": " "}).status_code == 422
        with database.session() as session:
            assert [(t.tag.path, t.tag.meaning) for t in tags.tree(session)] == [
                ("desk", "By telephone"),
                ("desk/called", "By telephone"),
            ]
        assert {"kind": "tag", "name": "desk/called"}.items() <= web.post(
            "/find", json={"q": "called"}
        ).json["found"][0].items()


FILE = (
    "Email,First name,Tags\nann@post.example,Ann,season/late; "
    "Volunteer\neva@post.example,Eva,\nfox@post.example,Fox,!\n"
)


def test_a_file_brings_tags_and_takes_none(database, world, job_context):
    dry, counts, found = bring_in(database, FILE, tags=("fair",))
    assert found.plan["targets"] == ["email", "first_name", "tags"]
    assert dry == counts and (counts["tagged"], counts["refused"]) == (2, 1)
    with database.session() as session:
        assert paths_of(session, world)["Ann"] == [
            "fair",
            "season",
            "season/late",
            "season/leonids",
            "volunteer",
        ]
    _, again, _ = bring_in(database, FILE, tags=("fair",))
    assert (again["tagged"], again["changed"], again["new"]) == (0, 0, 0)
    _, kept, _ = bring_in(database, FILE.replace("Volunteer", "helper"), known="keep")
    assert kept["tagged"] == 0, "known people stay as they are"


def test_the_api_reads_and_writes_tags(api, world):
    status, ann = api("put", "/contacts", {"email": "ann@post.example", "tags": ["Desk/Called"]})
    assert (status, ann["tags"]) == (200, ["desk/called"])
    assert api("put", f"/contacts/{world['Bo']}", {"town": "Farrow"})[1]["tags"] == [
        "season/leonids"
    ], "what is not named stays"
    assert (
        api("put", f"/contacts/{world['Bo']}", {"tags": "x"})[0] == 422
        and api("put", f"/contacts/{world['Bo']}", {"tags": ["!"]})[0] == 422
    )
    assert api("post", "/tags/contacts", {"tag": "asked", "contacts": [world["Ann"], world["Di"]]})[
        1
    ] == {"given": 2}
    assert api("delete", "/tags/contacts", {"tag": "asked", "contacts": [world["Ann"]]})[1] == {
        "taken": 1
    }
    assert api("delete", "/tags/contacts", {"tag": "winter", "contacts": [1]})[0] == 422
    listed = {t["tag"]: t for t in api("get", "/tags")[1]["items"]}
    assert listed["asked"]["people"] == 1 and listed["season/leonids"]["campaign"] == 1
    assert (
        api("put", f"/tags/{listed['asked']['id']}", {"tag": "phoned", "meaning": "By the desk"})[
            1
        ]["tag"]
        == "phoned"
    )
    assert api("delete", f"/tags/{listed['season']['id']}")[0] == 409
    assert (
        api("post", "/tags", {"tag": "Desk / Later", "meaning": "To be rung"})[1]["tag"]
        == "desk/later"
    )
    assert api("put", "/tags/of/segment/1", {"tags": ["desk/later", "x"]})[1] == {
        "kind": "segment",
        "id": 1,
        "tags": ["desk/later", "x"],
    }
    desk = {t["tag"]: t["id"] for t in api("get", "/tags")[1]["items"]}
    assert api("get", f"/tags/{desk['desk/later']}/bearers")[1] == {
        "items": [{"kind": "segment", "id": 1, "name": "Season people"}]
    }
    assert (
        api("put", "/tags/of/segment/99", {"tags": []})[0] == 404
        and api("put", "/tags/of/send/1", {"tags": []})[0] == 422
    )
    assert api("delete", f"/tags/{listed['asked']['id']}")[1] == {"deleted": listed["asked"]["id"]}
