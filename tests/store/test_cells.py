"""Whatever is taken along as a file, no text of it is run as a formula by a spreadsheet."""

import io

import openpyxl
import pytest

from meadowrun.base import clock
from meadowrun.results.views import _cell
from tests.conftest import NOW
from tests.store.people import add, ready_send
from tests.store.work import delivered, dispatched

FORMULA = '=HYPERLINK("http://evil.example")'


@pytest.mark.parametrize("begun", ["=1+1", "+cmd", "@sum", "-cmd", "\t=1", "\r=1", FORMULA])
def test_a_text_that_begins_like_a_formula_stays_text(begun):
    assert _cell(begun) == "'" + begun and _cell("-5") == "-5" and _cell(7) == 7
    assert _cell("a\x0bb") == "ab", "no such file holds it"


def test_the_people_of_a_result(web, database):
    with clock.at(NOW), database.session() as session:
        contact = add(session, NOW, "ann@post.example", first_name=FORMULA, last_name="@x\x0b")
        send = ready_send(session, NOW, {"in": [{"everyone": True}]})
        send.name, send.state = "+send", "done"
        made = dispatched(session, send, NOW)
        delivered(session, send, contact.id, "bounced", note="=1")
        made.size, made.sealed = 1, True
        ident = send.id
    book = openpyxl.load_workbook(io.BytesIO(web.get(f"/results/{ident}.xlsx").data))
    row = [cell.value for cell in list(book["People"].iter_rows())[1]]
    assert row[1:3] == ["'" + FORMULA, "'@x"] and row[5] == "'=1"
    assert all(
        cell.data_type != "f" for sheet in book for line in sheet.iter_rows() for cell in line
    )


def test_the_columns_of_refused_rows_and_of_tables(web):
    web.post(
        "/imports/new",
        data={
            "file": (io.BytesIO(f"Email,{FORMULA}\nnobody,1\n".replace('"', "").encode()), "a.csv")
        },
        content_type="multipart/form-data",
    )
    answer = web.get("/imports/1/refused.csv")
    assert answer.status_code == 200 and "'=HYPERLINK" in answer.text
