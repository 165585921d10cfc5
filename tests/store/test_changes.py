"""“Who changed what” says what changed, from what to what."""

from meadowrun.base import clock
from tests.conftest import NOW
from tests.store.people import add
from tests.store.web import words


def test_a_contact_that_was_changed(web, database):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example", first_name="Ann", town="Tarn").id
    web.post(f"/people/{person}/edit", data={"email": "ann@post.example", "first_name": "Ann", "town": "Farrow"})
    assert "town Tarn → Farrow" in words(web.get("/changes").text)
    # Only in what was said when she was added: it did not change.
    assert words(web.get("/changes").text).count("first name") == 1


def test_a_choice_needs_something_to_choose_from(web):
    answer = web.post("/people/fields", data={"label": "Favourite", "type": "choice", "options": " , "})
    assert answer.status_code == 422 and "Name what there is to choose from" in answer.text
