"""Companies renamed and merged, as somebody who found two spellings of one does."""

import pytest
import sqlalchemy as sa

from meadowrun.base.errors import Conflict, Invalid
from meadowrun.people import actions as people
from meadowrun.people.models import Company, Contact
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import words


@pytest.fixture
def schools(database):
    with database.session() as session:
        for label, kind in (("pupils", "number"), ("head", "text")):
            people.add_field(session, IDA, NOW, "company", label, kind, [])
        for number, name in enumerate(("Tarn School", "Tarn School", "Tarn Schol", "Farrow Club")):
            add(session, NOW, f"p{number}@post.example", first_name=f"P{number}", company=name)
        people.save_company(session, IDA, NOW, "Tarn School", {"pupils": 900})
        people.save_company(session, IDA, NOW, "Tarn Schol", {"head": "Orla Marsh", "pupils": 900})
        return {c.name: c.id for c in session.scalars(sa.select(Company))}


def test_merging_moves_everyone_and_fills_blanks(web, schools, database):
    page = web.get(f"/companies/{schools['Tarn Schol']}").text
    assert '<option value="Tarn School">' in page and "Farrow Club" not in page.split("mi-names")[2]
    answer = web.post(
        f"/companies/{schools['Tarn Schol']}/merge",
        data={"name": "tarn school"},
        follow_redirects=True,
    )
    assert (
        "“Tarn Schol” is part of it now; 1 person moved." in words(answer.text)
        and "Orla Marsh" in answer.text
    )
    with database.session() as session:
        assert session.get(Company, schools["Tarn Schol"]) is None
        assert session.get_one(Company, schools["Tarn School"]).attributes == {
            "pupils": 900,
            "head": "Orla Marsh",
        }
        rows = (
            session.execute(
                sa.select(Contact.company_id, sa.func.count()).group_by(Contact.company_id)
            )
            .tuples()
            .all()
        )
        assert dict(rows) == {schools["Tarn School"]: 3, schools["Farrow Club"]: 1}
        assert (
            session.execute(
                sa.text("SELECT detail->>'gone' FROM audit WHERE did = 'merged the company'")
            ).scalar()
            == "Tarn Schol"
        )


def test_what_differs_is_not_lost_unseen(database, schools):
    with database.session() as session:
        people.save_company(session, IDA, NOW, "Tarn Schol", {"pupils": 12})
        gone, kept = (session.get_one(Company, schools[n]) for n in ("Tarn Schol", "Tarn School"))
        with pytest.raises(Conflict, match="pupils"):
            people.merge_companies(session, IDA, gone, kept)
        with pytest.raises(Invalid):
            people.merge_companies(session, IDA, kept, kept)
        assert session.scalar(sa.select(sa.func.count()).select_from(Company)) == 3


def test_renaming(web, schools, database):
    ident = schools["Farrow Club"]
    assert (
        "Renamed."
        in web.post(
            f"/companies/{ident}/rename",
            data={"name": "  Farrow   Star Club "},
            follow_redirects=True,
        ).text
    )
    taken = web.post(f"/companies/{ident}/rename", data={"name": "TARN SCHOOL"})
    assert taken.status_code == 409 and "Merge the two instead" in taken.text
    assert web.post(f"/companies/{ident}/rename", data={"name": " "}).status_code == 422
    missing = web.post(f"/companies/{ident}/merge", data={"name": "Nobody & Sons"})
    assert missing.status_code == 422 and "There is no company “Nobody &amp; Sons”" in missing.text
    with database.session() as session:
        assert session.get_one(Company, ident).name == "Farrow Star Club"
        # The next import by that name finds it.
        assert people.company_by_name(session, "farrow star club", NOW).id == ident


def test_values_are_read_as_the_reader_writes_them(web, database, schools):
    """In the table of companies, and among the commonest values of a field."""
    with database.session() as session:
        ends = people.add_field(session, IDA, NOW, "company", "agreement ends", "date", [])
        lends = people.add_field(session, IDA, NOW, "company", "lends rooms", "yes_no", [])
        given = {ends.key: "2026-10-04", lends.key: True, "pupils": 1106}
        people.save_company(session, IDA, NOW, "Tarn School", given)
        pupils = session.scalar(sa.text("SELECT id FROM fields WHERE label = 'pupils'"))
        pages = [f"/people/fields/{one}" for one in (ends.id, pupils, lends.id)]
    assert "Tarn School 4 Oct 2026 yes 1,106" in words(web.get("/companies").text)
    for page, value in zip(pages, ("4 Oct 2026 1", "1,106 1", "yes 1"), strict=True):
        assert value in words(web.get(page).text)
