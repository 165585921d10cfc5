"""Lists and suppressions: by hand, pasted, compared, worked out again; whole domains, and for a
time."""

import csv
import datetime as dt
import io

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.cache import forget
from meadowrun.base.errors import Invalid
from meadowrun.core.people_file import Plan
from meadowrun.imports import actions as imports
from meadowrun.imports.models import Import
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Suppression
from meadowrun.segments.facts import facts_sql
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import sign_in, words


@pytest.fixture
def four(database):
    with database.session() as session:
        for name in ("Ann", "Bo", "Cy", "Di"):
            add(
                session,
                NOW,
                f"{name.lower()}@post.example",
                first_name=name,
                town="Farrow" if name in ("Ann", "Bo") else None,
            )
    forget()


def people_of(web, ident, **more):
    text = words(web.get(f"/lists/{ident}", query_string=more).text)
    return {n for n in ("Ann", "Bo", "Cy", "Di") if f" {n} {n.lower()}@" in text}


class TestLists:
    def test_by_hand_from_addresses_and_numbers(self, web, four):
        answer = web.post(
            "/lists", data={"name": "Guests", "who": "ANN@post.example\n2\nnobody@post.example; 99"}
        )
        assert answer.location == "/lists/1"
        assert "2 added. Not added, because nobody has it: nobody@post.example, 99." in words(
            web.get("/lists/1").text
        )
        assert people_of(web, 1) == {"Ann", "Bo"}
        web.post("/lists/1/add", data={"who": "cy@post.example, ann@post.example"})
        assert "1 added. 1 in it already." in words(web.get("/lists/1").text)
        web.post("/lists/1/remove/1")
        assert people_of(web, 1) == {"Bo", "Cy"}

    def test_a_name_is_needed_and_what_was_typed_stays(self, web, four):
        answer = web.post("/lists", data={"name": " ", "who": "ann@post.example"})
        assert answer.status_code == 422 and "ann@post.example" in answer.text

    def test_two_lists_side_by_side(self, web, four):
        web.post("/lists", data={"name": "A", "who": "1\n2"})
        web.post("/lists", data={"name": "B", "who": "2\n3"})
        shown = {
            show: people_of(web, 1, **{"with": 2, "show": show})
            for show in ("both", "here", "there")
        }
        assert shown == {"both": {"Bo"}, "here": {"Ann"}, "there": {"Cy"}}

    def test_a_part_of_two_becomes_a_list_of_its_own(self, web, four):
        for name, who in (("A", "1\n2"), ("B", "2\n3")):
            web.post("/lists", data={"name": name, "who": who})
        made = web.post("/lists/1/part", data={"with": "2", "show": "there"}, follow_redirects=True)
        assert "In B, not in A" in words(made.text) and people_of(web, 3) == {"Cy"}
        assert web.post("/lists/1/part", data={"with": "2", "show": "all"}).status_code == 422
        assert web.post("/lists/1/part", data={"with": "9", "show": "both"}).status_code == 404

    def test_another_name(self, web, four):
        for name in ("A", "B", "B"):
            web.post("/lists", data={"name": name})
        assert "B 2" in words(web.get("/lists").text)
        web.post("/lists/1/rename", data={"name": "  Guests of\thonour "})
        assert "<h1>Guests of honour</h1>" in web.get("/lists/1").text
        assert "Another list is called “B”" in words(
            web.post("/lists/1/rename", data={"name": "B"}, follow_redirects=True).text
        )
        assert "Give the list a name" in words(
            web.post("/lists/1/rename", data={"name": " "}, follow_redirects=True).text
        )

    def test_frozen_from_a_segment_and_worked_out_again(self, web, four, database):
        web.post(
            "/segments/save",
            json={
                "name": "Farrow",
                "definition": {
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "town",
                            "op": "is",
                            "value": ["farrow"],
                        }
                    ]
                },
            },
        )
        web.post("/segments/1/freeze")
        with database.session() as session:
            session.execute(sa.text("UPDATE contacts SET town = 'Farrow' WHERE first_name = 'Di'"))
        assert people_of(web, 1) == {"Ann", "Bo"}
        web.post("/lists/1/again")
        assert people_of(web, 1) == {"Ann", "Bo", "Di"}

    def test_one_in_use_stays(self, web, four):
        web.post("/lists", data={"name": "A", "who": "1"})
        web.post(
            "/segments/save",
            json={"name": "S", "definition": {"lines": [{"id": "a", "kind": "list", "list": 1}]}},
        )
        web.post("/lists/1/delete")
        assert "“A” is used by the segment “S”" in words(web.get("/lists/1").text)
        web.post("/segments/1/delete")
        assert web.post("/lists/1/delete").location == "/lists"
        assert web.get("/lists/1").status_code == 404


class TestTakenAlong:
    """The people of a list or a segment as CSV."""

    @pytest.fixture
    def varied(self, database):
        with database.session() as session:
            for key, kind in (
                ("birthday", "date"),
                ("visits", "number"),
                ("member", "yes_no"),
                ("likes", "choices"),
            ):
                people.add_field(
                    session,
                    IDA,
                    NOW,
                    "contact",
                    key.capitalize(),
                    kind,
                    ["hens", "old maps"] if key == "likes" else None,
                )
            add(
                session,
                NOW,
                "ann@post.example",
                first_name="Ann",
                last_name='Rook, the "elder"',
                company="Tarn School",
                phone="+447700900101",
                reference="007",
                birthday="1980-02-29",
                visits="2.5",
                member="yes",
                likes="hens; old maps",
            )
            add(
                session,
                NOW,
                "bén@post.example",
                agreed=False,
                first_name="Bén",
                visits="0",
                member="no",
            )
            add(session, NOW, "cy@post.example", agreed=None, first_name="=1+1", town="-x")
        forget()

    def test_every_kind_of_value(self, web, varied):
        web.post("/lists", data={"name": "Guests / 1", "who": "1\n2\n3"})
        answer = web.get("/lists/1.csv")
        assert answer.headers["Content-Disposition"] == 'attachment; filename="Guests  1.csv"'
        rows = list(csv.DictReader(io.StringIO(answer.data.decode("utf-8-sig"))))
        assert rows[0] == {
            "first name": "Ann",
            "last name": 'Rook, the "elder"',
            "email address": "ann@post.example",
            "reference number": "007",
            "phone": "+44 7700 900101",
            "town": "",
            "language": "",
            "time zone": "",
            "company": "Tarn School",
            "Birthday": "1980-02-29",
            "Likes": "hens; old maps",
            "Member": "yes",
            "Visits": "2.5",
            "tags": "",
            "agreed to email": "yes",
            "agreed to text messages": "",
        }
        assert (rows[1]["Visits"], rows[1]["Member"], rows[1]["agreed to email"]) == (
            "0",
            "no",
            "no",
        )
        assert (rows[2]["first name"], rows[2]["town"], rows[2]["agreed to email"]) == (
            "'=1+1",
            "'-x",
            "",
        )

    def test_a_segment_and_the_record_of_it(self, web, varied, database):
        web.post(
            "/segments/save",
            json={
                "name": "Members",
                "definition": {
                    "lines": [{"id": "a", "kind": "field", "field": "member", "op": "yes"}]
                },
            },
        )
        rows = list(
            csv.DictReader(io.StringIO(web.get("/segments/1/people.csv").data.decode("utf-8-sig")))
        )
        assert [row["email address"] for row in rows] == ["ann@post.example"]
        with database.session() as session:
            kept = session.execute(
                sa.text("SELECT object_kind, detail->>'people' FROM audit WHERE did = 'downloaded'")
            ).all()
        assert kept == [("segment", "1")]

    def test_viewers_take_nobody_along(self, client, varied, web):
        web.post("/lists", data={"name": "A", "who": "1"})
        sign_in(client, "viewer")
        assert client.get("/lists/1.csv").status_code == 403

    def test_it_can_be_imported_again_and_changes_nothing(self, web, varied, database, job_context):
        web.post("/lists", data={"name": "A", "who": "1\n2"})
        content = web.get("/lists/1.csv").data
        with clock.at(NOW), database.session() as session:
            found = imports.upload(session, IDA, NOW, "a.csv", content)
            # Every column is known again by its heading.
            assert "" not in found.plan["targets"] and not any(
                t.startswith("new") for t in found.plan["targets"]
            )
            imports.set_plan(
                session,
                IDA,
                NOW,
                found,
                Plan(tuple(found.plan["targets"]), consent="as it was", channels=()),
                {},
            )
            ident = found.id
        jobs.run_here("imports.run", import_id=ident, dry=True)
        with database.session() as session:
            counts = session.get_one(Import, ident).dry_counts
        assert (counts["rows"], counts["unchanged"], counts["refused"]) == (2, 2, 0)


class TestSuppressions:
    def held(self, database):
        with database.session() as session:
            return {row.id for row in session.execute(sa.text(facts_sql(None))) if row.suppressed}

    def test_a_whole_domain(self, web, four, database):
        with database.session() as session:
            add(session, NOW, "eve@sub.post.example", first_name="Eve")
        given = {"address": "@POST.example", "reason": "a rival"}
        # First it says how many that are, and nothing is suppressed.
        asked = words(web.post("/people/suppressions", data=given).text)
        assert (
            "4 people have an address at @post.example" in asked
            and "Suppress 4 people" in asked
            and self.held(database) == set()
        )
        web.post("/people/suppressions", data=given | {"sure": "@post.example"})
        assert self.held(database) == {1, 2, 3, 4}
        assert "the whole domain" in web.get("/people/suppressions").text
        assert "a rival" in words(web.get("/people/1").text)
        assert "Allow again for 4 people" in words(
            web.post("/people/suppressions/lift", data={"address": "@post.example"}).text
        )
        assert self.held(database) == {1, 2, 3, 4}
        web.post("/people/suppressions/lift", data={"address": "@post.example", "sure": "yes"})
        assert self.held(database) == set()

    def test_for_a_time(self, web, four, database, job_context):
        with clock.at(NOW):
            web.post(
                "/people/suppressions", data={"address": "ann@post.example", "until": "2026-11-30"}
            )
            assert "1 Dec 2026, 00:00" in words(web.get("/people/suppressions").text)
            jobs.run_here("people.expire")
        assert self.held(database) == {1}
        # Midnight after the last day, on the organisation's clock.
        with clock.at(dt.datetime(2026, 11, 30, 23, 59, tzinfo=dt.UTC)):
            jobs.run_here("people.expire")
        assert self.held(database) == {1}
        with clock.at(dt.datetime(2026, 12, 1, 0, 0, tzinfo=dt.UTC)):
            jobs.run_here("people.expire")
        assert self.held(database) == set()

    def test_many_pasted_and_from_a_file(self, web, four, database):
        answer = web.post(
            "/people/suppressions",
            data={
                "many": (
                    "address,reason\nann@post.example,left town\nbo@post.example\nnot an @address"
                ),
                "reason": "asked",
                "sure": "@rival.example",
                "file": (io.BytesIO(b"\xef\xbb\xbfrival.example\nann@post.example\n"), "x.csv"),
            },
            content_type="multipart/form-data",
        )
        assert answer.status_code == 303
        said = words(web.get("/people/suppressions").text)
        assert "3 suppressed. 1 had been suppressed before. 1 could not be read" in said
        assert "like “not an @address”" in said
        with database.session() as session:
            rows = {r.address_key: r.reason for r in session.scalars(sa.select(Suppression))}
        assert rows == {
            "ann@post.example": "left town",
            "bo@post.example": "asked",
            "@rival.example": "asked",
        }

    def test_several_in_a_line_are_addresses_and_not_a_reason(self, web, four, database):
        web.post(
            "/people/suppressions",
            data={
                "many": "ann@post.example; BO@post.example\ncy@post.example, moved, to York\n,\n",
                "reason": "asked",
            },
        )
        with database.session() as session:
            rows = {r.address_key: r.reason for r in session.scalars(sa.select(Suppression))}
        assert rows == {
            "ann@post.example": "asked",
            "bo@post.example": "asked",
            "cy@post.example": "moved, to York",
        }

    @pytest.mark.parametrize("field", ["address", "many"])
    def test_however_they_are_parted_none_is_taken_for_a_reason(self, web, four, database, field):
        web.post(
            "/people/suppressions",
            data={
                field: "ann@post.example, bo@post.example @spam.example",
                "reason": "asked",
                "sure": "@spam.example",
            },
        )
        with database.session() as session:
            rows = {r.address_key: r.reason for r in session.scalars(sa.select(Suppression))}
        assert rows == {
            "ann@post.example": "asked",
            "bo@post.example": "asked",
            "@spam.example": "asked",
        }

    def test_page_by_page(self, web, database):
        with database.session() as session:
            for number in range(60):
                keeping.suppress(
                    session,
                    NOW + dt.timedelta(minutes=number),
                    f"n{number:02}@post.example",
                    "asked",
                    "x",
                )
        first, second = (
            web.get("/people/suppressions").text,
            web.get("/people/suppressions?from=50").text,
        )
        assert "n59@" in first and "n10@" in first and "n09@" not in first and "from=50" in first
        assert (
            "n09@" in second
            and "n00@" in second
            and "n10@" not in second
            and "Previous" in words(second)
        )
        found = web.post(
            "/people/suppressions/search", data={"q": "n07"}, follow_redirects=True
        ).text
        assert "n07@" in found and "n08@" not in found and "60 addresses in all" in found
        assert (
            "No match"
            in web.post(
                "/people/suppressions/search", data={"q": "zzz"}, follow_redirects=True
            ).text
        )

    def test_for_ever_wins_over_a_time(self, database):
        with database.session() as session:
            keeping.suppress(session, NOW, "a@b.example", "first", "x", NOW + dt.timedelta(days=1))
            assert not keeping.suppress(session, NOW, "a@b.example", "second", "x")
            row = session.get_one(Suppression, "a@b.example")
            assert (row.until, row.reason) == (None, "first")

    @pytest.mark.parametrize(
        ("typed", "key"),
        [
            ("Ann@Post.Example", "ann@post.example"),
            ("@rival.example", "@rival.example"),
            ("RIVAL.example", "@rival.example"),
        ],
    )
    def test_what_is_an_address_and_what_a_domain(self, typed, key):
        assert keeping.address_or_domain(typed) == key

    @pytest.mark.parametrize("typed", ["", "nobody", "@", "a b@c.example", "@-x.example"])
    def test_what_is_neither(self, typed):
        with pytest.raises(Invalid):
            keeping.address_or_domain(typed)

    def test_a_day_that_has_passed(self, web, four, still):
        answer = web.post(
            "/people/suppressions", data={"address": "ann@post.example", "until": "2026-11-01"}
        )
        assert (
            answer.status_code == 422
            and "has passed" in answer.text
            and "ann@post.example" in answer.text
        )


def test_a_company_is_changed_on_its_page(web, database):
    with database.session() as session:
        people.add_field(session, IDA, NOW, "company", "kind", "choice", ["School", "Club"])
        people.add_field(session, IDA, NOW, "company", "pupils", "number", [])
        add(session, NOW, "ann@post.example", first_name="Ann", company="Tarn School")
    assert web.post("/companies/1", data={"kind": "School", "pupils": "1,200"}).status_code == 303
    assert "Kind School Pupils 1,200" in words(web.get("/companies/1").text)
    answer = web.post("/companies/1", data={"kind": "School", "pupils": "many"})
    assert answer.status_code == 422 and "many" in answer.text and "pupils" in words(answer.text)
    web.post("/companies/1", data={"kind": "", "pupils": "900"})
    assert "School Pupils" not in words(web.get("/companies/1").text)
