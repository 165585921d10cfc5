"""Rubbish comes in: every refusal names the place and the remedy, and nothing falls over."""

import io
import time

import openpyxl
import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.cache import forget
from meadowrun.core import people_file as pf
from meadowrun.imports import actions as imports
from meadowrun.imports.models import Import, ImportRefusal
from meadowrun.people import actions as people
from meadowrun.people.models import Contact
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import words


def upload(web, content, name="file.csv"):
    return web.post(
        "/imports/new",
        data={"file": (io.BytesIO(content), name)},
        content_type="multipart/form-data",
    )


class TestFiles:
    def test_a_line_of_fifty_megabytes(self, web):
        started = time.monotonic()
        answer = upload(
            web, b"Email,Name\nann@post.example,Ann\nbo@post.example," + b"x" * 50_000_000 + b"\n"
        )
        assert answer.status_code == 422 and "Line 3 cannot be read" in words(answer.text)
        assert time.monotonic() - started < 30

    def test_a_quote_that_is_never_closed(self, web):
        answer = upload(
            web,
            b'Email,Name\nann@post.example,Ann\ncy@post.example,"Cy\n'
            + b"bo@post.example,Bo\n" * 20_000,
        )
        assert (
            answer.status_code == 422
            and "Line 3 cannot be read" in words(answer.text)
            and "quote that is never closed" in words(answer.text)
        )

    def test_two_thousand_columns(self, web):
        head = ",".join(["Email", *(f"c{n}" for n in range(1999))])
        answer = upload(web, f"{head}\nann@post.example{',x' * 1999}\n".encode())
        assert answer.status_code == 422 and "2,000 columns; at most 300" in words(answer.text)

    def test_formulas_are_never_worked_out_here_and_stay_text(self, database, job_context, web):
        book = openpyxl.Workbook()
        sheet = book.active
        sheet.append(["Email", "First name", "Last name"])
        sheet.append(["ann@post.example", '=HYPERLINK("http://evil.example","Ann")', "Lee"])
        sheet.append(['="bo"&"@post.example"', "=1+1", "Bo"])
        out = io.BytesIO()
        book.save(out)
        with clock.at(NOW), database.session() as session:
            found = imports.upload(session, IDA, NOW, "x.xlsx", out.getvalue())
            imports.set_plan(
                session,
                IDA,
                NOW,
                found,
                pf.Plan(tuple(found.plan["targets"]), consent="in_app"),
                {},
            )
            ident = found.id
        with clock.at(NOW):
            jobs.run_here("imports.run", import_id=ident, dry=True)
            with database.session() as session:
                imports.carry_out(session, IDA, NOW, session.get_one(Import, ident))
            jobs.run_here("imports.run", import_id=ident, dry=False)
        with database.session() as session:
            assert session.get_one(Import, ident).state == "done"
            names = session.scalars(sa.select(Contact.first_name)).all()
            refused = session.scalars(sa.select(ImportRefusal)).all()
        # No value was saved with the formulas, so the cells are blank or their text; never the
        # formula's result or a link.
        assert not any(n and "evil.example" in n and not n.startswith("=") for n in names)
        assert len(names) + len(refused) == 2
        shown = web.get("/people").text
        assert 'href="http://evil.example' not in shown

    @pytest.mark.parametrize(
        ("content", "name", "says"),
        [
            (b"", "x.csv", "The file is empty"),
            (b"PK\x03\x04 not really", "x.xlsx", "cannot be opened"),
            (b"\x89PNG\r\n\x1a\n" + bytes(2000), "x.csv", "not a text file"),
            (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(600), "x.xls", "old format"),
            (
                b"ann@post.example,Ann\nbo@post.example,Bo\n",
                "x.csv",
                "names of the columns are missing",
            ),
            (b"Email,Name\n", "x.csv", "only its header"),
        ],
    )
    def test_what_is_no_list_of_people(self, web, content, name, says):
        answer = upload(web, content, name)
        assert answer.status_code == 422 and says in words(answer.text)


class TestSegments:
    def nested(self, depth, line=None):
        node = line or {"id": "x", "kind": "field", "field": "town", "op": "not_blank"}
        for n in range(depth):
            node = {
                "id": f"g{n}",
                "kind": "group",
                "match": ("all", "any", "none")[n % 3],
                "lines": [node],
            }
        return {"lines": [node]}

    def test_nested_fifty_deep(self, web, database):
        with database.session() as session:
            add(session, NOW, "ann@post.example", first_name="Ann", town="Farrow")
            add(session, NOW, "bo@post.example", first_name="Bo")
        forget()
        answer = web.post("/segments/look", json={"definition": self.nested(50)})
        # 50 groups, 16 of them "none": an even number of turns leaves those with a town.
        assert answer.status_code == 200 and "1 person matches" in words(
            answer.json["parts"]["margin"]
        )
        saved = web.post("/segments/save", json={"definition": self.nested(50), "name": "Deep"})
        assert saved.status_code == 200 and "Ann" in words(
            web.get(saved.json["to"] + "/people").text
        )
        assert web.get(saved.json["to"]).status_code == 200

    def test_deeper_than_anyone_reads(self, web):
        answer = web.post("/segments/look", json={"definition": self.nested(61)})
        assert answer.status_code == 200 and "at most 60 deep" in words(
            answer.json["parts"]["sieve"]
        )
        saved = web.post("/segments/save", json={"definition": self.nested(61), "name": "Too deep"})
        assert saved.status_code == 422 and "at most 60 deep" in saved.json["error"]

    def test_a_hundred_thousand_pasted_values(self, web, database):
        with database.session() as session:
            add(session, NOW, "ann@post.example", first_name="Ann", reference="R99999")
        forget()
        answer = web.post(
            "/segments/look",
            json={
                "definition": {
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "reference",
                            "op": "is",
                            "value": ["x"],
                        }
                    ]
                },
                "change": {
                    "do": "answer",
                    "id": "a",
                    "slot": "value",
                    "form": [["typed", "\n".join(f"R{n}" for n in range(100_000))]],
                },
            },
        )
        assert answer.status_code == 200 and "1 person matches" in words(
            answer.json["parts"]["margin"]
        )
        assert "99,996 more" in words(answer.json["parts"]["sieve"]).replace("99996", "99,996")

    @pytest.mark.parametrize(
        "definition",
        [
            "x",
            {"lines": "x"},
            {"lines": [None]},
            {"lines": [{"id": "a"}]},
            {"format": 9, "lines": []},
            {"lines": [{"id": "a", "kind": "field", "field": ["town"], "op": "is", "value": {}}]},
            {"lines": [{"id": "a", "kind": "event", "event": 7, "span": {"last": "x"}}]},
            {"lines": [{"id": "a", "kind": "share", "percent": 1e999, "salt": "x"}]},
        ],
    )
    def test_definitions_that_are_none(self, web, definition):
        answer = web.post("/segments/save", json={"definition": definition, "name": "Rubbish"})
        assert answer.status_code == 422 and answer.json["error"], answer.text

    def test_a_field_that_is_gone_while_in_use(self, web, database):
        with database.session() as session:
            people.add_field(session, IDA, NOW, "contact", "tier", "choice", ["Patron"])
        web.post(
            "/segments/save",
            json={
                "name": "Patrons",
                "definition": {
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "tier",
                            "op": "is",
                            "value": ["Patron"],
                        }
                    ]
                },
            },
        )
        web.post(
            "/segments/save",
            json={
                "name": "Others",
                "definition": {
                    "lines": [{"id": "s", "kind": "segment", "segment": 1, "inside": False}]
                },
            },
        )
        with database.session() as session:
            session.execute(sa.text("DELETE FROM fields"))
        for ident in (1, 2):
            shown = words(web.get(f"/segments/{ident}").text)
            assert (
                "There is no field called “tier” any more" in shown
                and "Remove that condition" in shown
            )
        assert (
            web.get("/segments").status_code == 200
            and web.get("/segments/1/profile").status_code == 409
        )
        assert web.get("/segments/compare?of=1&of=2").status_code == 409


class TestWhatNoColumnHolds:
    @pytest.mark.parametrize(
        "ask",
        [
            lambda web: web.post("/people", data={"q": "\0a"}, follow_redirects=True),
            lambda web: web.post("/find", json={"q": "a\0"}),
            lambda web: web.post("/companies", data={"q": "\0"}, follow_redirects=True),
            lambda web: web.post(
                "/people/suppressions/search", data={"q": "\0"}, follow_redirects=True
            ),
            lambda web: web.post("/sign-in", data={"email": "a\0", "password": "b"}),
            lambda web: web.post(
                "/segments/save", json={"name": "a\0", "definition": {"lines": []}}
            ),
            lambda web: web.post(
                "/segments/look",
                json={
                    "definition": {
                        "lines": [
                            {
                                "id": "a",
                                "kind": "field",
                                "field": "town",
                                "op": "is",
                                "value": ["a\0"],
                            }
                        ]
                    }
                },
            ),
        ],
    )
    def test_a_sign_that_cannot_be_kept(self, web, ask):
        answer = ask(web)
        assert answer.status_code == 422 and "Take it out and try again." in answer.text

    @pytest.mark.parametrize(
        "path",
        [
            "/people/99999999999999999999",
            "/segments/99999999999999999999",
            "/sends/99999999999999999999",
            "/campaigns/99999999999999999999",
            "/lists/99999999999999999999",
            "/people/duplicates/1/99999999999999999999",
        ],
    )
    def test_a_number_that_cannot_be(self, web, path):
        answer = web.get(path)
        assert answer.status_code in (404, 422), answer.text
        assert web.get("/people").status_code == 200
