"""Lists and suppressions: by hand, pasted, compared, worked out again; whole domains, and for a time."""

import datetime as dt
import io

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Suppression
from meadowrun.segments.queries import facts_sql, forget
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import words


@pytest.fixture
def four(database):
    with database.session() as session:
        for name in ("Ann", "Bo", "Cy", "Di"):
            add(session, NOW, f"{name.lower()}@post.example", first_name=name, town="Farrow" if name in ("Ann", "Bo") else None)
    forget()


def people_of(web, ident, **more):
    text = words(web.get(f"/lists/{ident}", query_string=more).text)
    return {n for n in ("Ann", "Bo", "Cy", "Di") if f" {n} {n.lower()}@" in text}


class TestLists:
    def test_by_hand_from_addresses_and_numbers(self, web, four):
        answer = web.post("/lists", data={"name": "Guests", "who": "ANN@post.example\n2\nnobody@post.example; 99"})
        assert answer.location == "/lists/1"
        assert "2 added. Not added, because nobody has it: nobody@post.example, 99." in words(web.get("/lists/1").text)
        assert people_of(web, 1) == {"Ann", "Bo"}
        web.post("/lists/1/add", data={"who": "cy@post.example, ann@post.example"})
        assert "1 added, 1 were in it already." in words(web.get("/lists/1").text)
        web.post("/lists/1/remove/1")
        assert people_of(web, 1) == {"Bo", "Cy"}

    def test_a_name_is_needed_and_what_was_typed_stays(self, web, four):
        answer = web.post("/lists", data={"name": " ", "who": "ann@post.example"})
        assert answer.status_code == 422 and "ann@post.example" in answer.text

    def test_two_lists_side_by_side(self, web, four):
        web.post("/lists", data={"name": "A", "who": "1\n2"})
        web.post("/lists", data={"name": "B", "who": "2\n3"})
        shown = {show: people_of(web, 1, **{"with": 2, "show": show}) for show in ("both", "here", "there")}
        assert shown == {"both": {"Bo"}, "here": {"Ann"}, "there": {"Cy"}}

    def test_frozen_from_a_segment_and_worked_out_again(self, web, four, database):
        web.post("/segments/save", json={"name": "Farrow", "definition": {"lines": [
            {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["farrow"]}]}})
        web.post("/segments/1/freeze")
        with database.session() as session:
            session.execute(sa.text("UPDATE contacts SET town = 'Farrow' WHERE first_name = 'Di'"))
        assert people_of(web, 1) == {"Ann", "Bo"}
        web.post("/lists/1/again")
        assert people_of(web, 1) == {"Ann", "Bo", "Di"}

    def test_one_in_use_stays(self, web, four):
        web.post("/lists", data={"name": "A", "who": "1"})
        web.post("/segments/save", json={"name": "S", "definition": {"lines": [{"id": "a", "kind": "list", "list": 1}]}})
        web.post("/lists/1/delete")
        assert "“A” is used by the segment “S”" in words(web.get("/lists/1").text)
        web.post("/segments/1/delete")
        assert web.post("/lists/1/delete").location == "/lists"
        assert web.get("/lists/1").status_code == 404


class TestSuppressions:
    def held(self, database):
        with database.session() as session:
            return {row.id for row in session.execute(sa.text(facts_sql(None))) if row.suppressed}

    def test_a_whole_domain(self, web, four, database):
        with database.session() as session:
            add(session, NOW, "eve@sub.post.example", first_name="Eve")
        web.post("/people/suppressions", data={"address": "@POST.example", "reason": "a rival"})
        assert self.held(database) == {1, 2, 3, 4}
        assert "the whole domain" in web.get("/people/suppressions").text
        assert "a rival" in words(web.get("/people/1").text)
        web.post("/people/suppressions/lift", data={"address": "@post.example"})
        assert self.held(database) == set()

    def test_for_a_time(self, web, four, database, job_context):
        with clock.at(NOW):
            web.post("/people/suppressions", data={"address": "ann@post.example", "until": "2026-11-30"})
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
        answer = web.post("/people/suppressions", data={
            "many": "address,reason\nann@post.example,left town\nbo@post.example\nnot an @address", "reason": "asked",
            "file": (io.BytesIO(b"\xef\xbb\xbfrival.example\nann@post.example\n"), "x.csv")}, content_type="multipart/form-data")
        assert answer.status_code == 303
        assert "3 suppressed, 2 were known. 1 could not be read, like “not an @address”" in words(web.get("/people/suppressions").text)
        with database.session() as session:
            rows = {r.address_key: r.reason for r in session.scalars(sa.select(Suppression))}
        assert rows == {"ann@post.example": "left town", "bo@post.example": "asked", "@rival.example": "asked"}

    def test_for_ever_wins_over_a_time(self, database):
        with database.session() as session:
            keeping.suppress(session, NOW, "a@b.example", "first", "x", NOW + dt.timedelta(days=1))
            assert not keeping.suppress(session, NOW, "a@b.example", "second", "x")
            row = session.get_one(Suppression, "a@b.example")
            assert (row.until, row.reason) == (None, "first")

    @pytest.mark.parametrize(("typed", "key"), [("Ann@Post.Example", "ann@post.example"), ("@rival.example", "@rival.example"),
                                                ("RIVAL.example", "@rival.example")])
    def test_what_is_an_address_and_what_a_domain(self, typed, key):
        assert keeping.address_or_domain(typed) == key

    @pytest.mark.parametrize("typed", ["", "nobody", "@", "a b@c.example", "@-x.example"])
    def test_what_is_neither(self, typed):
        with pytest.raises(Invalid):
            keeping.address_or_domain(typed)

    def test_a_day_that_has_passed(self, web, four, still):
        answer = web.post("/people/suppressions", data={"address": "ann@post.example", "until": "2026-11-01"})
        assert answer.status_code == 422 and "has passed" in answer.text and "ann@post.example" in answer.text


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
