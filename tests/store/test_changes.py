"""“Who changed what” says what changed, from what to what."""

import pytest

from meadowrun.base import audit, clock
from meadowrun.people.actions import save_topic
from meadowrun.people.models import Topic
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.web import word, words


def test_a_contact_that_was_changed(web, database):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example", first_name="Ann", town="Tarn").id
    web.post(
        f"/people/{person}/edit",
        data={"email": "ann@post.example", "first_name": "Ann", "town": "Farrow"},
    )
    assert "town Tarn → Farrow" in words(web.get("/changes").text)
    # Only in what was said when she was added: it did not change.
    assert words(web.get("/changes").text).count("first name") == 1


def test_a_choice_needs_something_to_choose_from(web):
    answer = web.post(
        "/people/fields", data={"label": "Favourite", "type": "choice", "options": " , "}
    )
    assert answer.status_code == 422 and "Name what there is to choose from" in answer.text


def town(name):
    return {
        "format": 1,
        "lines": [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": [name]}],
    }


HOUSE = {"greetings": "0:00 Good night", "proof_group": "a@post.example", "accent": "#112233"}


@pytest.mark.parametrize(
    ("path", "first", "then", "said"),
    [
        ("/companies/1", {"pupils": "120"}, {"pupils": "80"}, "pupils 120 → 80"),
        (
            "/companies/1/rename",
            {"name": "Tarn School"},
            {"name": "Tarn Academy"},
            "name Tarn School → Tarn Academy",
        ),
        (
            "/senders",
            {"name": "Desk", "address": "desk@mail.example"},
            {"sender": "1", "name": "Desk", "address": "new@mail.example"},
            "address desk@mail.example → new@mail.example",
        ),
        (
            "/senders",
            {"topic": "Nights", "about": "clear ones"},
            {"topic": "Nights", "about": "all of them", "known": "1"},
            "about clear ones → all of them",
        ),
        (
            "/messages/house",
            HOUSE,
            HOUSE | {"proof_group": "b@post.example"},
            "proof group a@post.example → b@post.example",
        ),
        ("/messages/house", HOUSE, HOUSE | {"accent": "#445566"}, "accent #112233 → #445566"),
        (
            "/segments/save",
            {"name": "Tarn", "definition": town("Tarn")},
            {"name": "Tarn", "segment": 1, "definition": town("Farrow"), "version": 1},
            "reads Everyone whose town is Tarn. → Everyone whose town is Farrow.",
        ),
    ],
)
def test_what_was_changed_is_said_from_what_to_what(web, database, path, first, then, said):
    web.post("/people/fields", data={"label": "Pupils", "type": "number", "owner": "company"})
    web.post("/people/new", data={"email": "bo@post.example", "company": "Hill School"})
    for given in (first, then):
        how = {"json": given} if path == "/segments/save" else {"data": given}
        assert web.post(path, **how).status_code in (200, 303)
    assert said in words(web.get("/changes").text)


def test_what_was_changed_and_taken_back_in_one_go_is_not_said(database):
    with clock.at(NOW), database.session() as session:
        made = save_topic(session, IDA, NOW, "Nights", "clear ones", None)
    with clock.at(NOW), database.session() as session:
        topic = session.get_one(Topic, made.id)
        topic.about = "other ones"
        session.flush()
        save_topic(session, IDA, NOW, "Nights", "clear ones", topic)
        session.flush()
        assert audit.recent(session, 1)[0].detail == {}


def test_a_send_is_told_in_the_words_of_its_page(web, ready, database, still):
    """Never by names and numbers of settings."""
    word(web, ready, "in", database, who=["everyone"])
    word(web, ready, "limit", database, how="some", most="40")
    word(web, ready, "success", database, event="ticket_bought", days="3")
    told = words(web.get("/changes").text)
    for change in (
        "to Everybody → everyone",
        "success bought a ticket within 7 days → bought a ticket within 3 days",
        "audience limit everyone who may get it → ",
    ):
        assert change in told, change
    for raw in (
        "audience_limit",
        "message id",
        "ticket_bought",
        "{'",
        "limit rule",
        "success event",
    ):
        assert raw not in told, raw
