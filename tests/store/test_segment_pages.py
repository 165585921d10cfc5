"""The segment's page over HTTP: changing, opening words, saving, history, lists."""

import pytest
import sqlalchemy as sa

from meadowrun.base.cache import forget
from meadowrun.people import actions as people
from tests.conftest import NOW
from tests.store.web import sign_in, words


def look(web, definition, change=None):
    answer = web.post("/segments/look", json={"definition": definition, "change": change})
    return answer.json


def line(**more):
    return {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"], **more}


EVENT = {
    "id": "a",
    "kind": "event",
    "event": "ticket_bought",
    "times": {"op": "at_least", "n": 1},
    "span": {"last": 30},
}


def test_the_margin_says_whom_each_channel_that_is_used_can_reach(web, town, database):
    """No other channel is spoken of while no message is on it; then all are counted, also where it
    concerns nobody yet."""
    said = words(look(web, {"format": 1, "lines": [line()]})["parts"]["margin"])
    assert "2 can get email" in said and "text messages" not in said
    with database.session() as session:
        for channel in ("sms", "push", "in_app"):
            session.execute(
                sa.text(
                    "INSERT INTO messages (name, channel, draft, document, created_at, "
                    "changed_at, changed_by) VALUES "
                    "(:n, :n, 1, '{}', :now, :now, '')"
                ),
                {"n": channel, "now": NOW},
            )
    forget()
    said = words(look(web, {"format": 1, "lines": [line()]})["parts"]["margin"])
    assert "0 can get text messages why not the others 2 without a phone number" in said
    assert (
        "0 can get push notifications why not the others 2 without a device that allows them"
        in said
        and "2 can get in-app messages" in said
    )
    with database.session() as session:
        session.execute(
            sa.text("UPDATE contacts SET phone = '+44 7700 900101' WHERE first_name = 'Ann'")
        )
        ann = session.execute(
            sa.text("SELECT id FROM contacts WHERE first_name = 'Ann'")
        ).scalar_one()
        people.set_consent(session, NOW, ann, 0, True, "test", "sms")
        people.set_consent(session, NOW, ann, 0, False, "test", "in_app")
    forget()
    said = words(look(web, {"format": 1, "lines": [line()]})["parts"]["margin"])
    assert "1 can get text messages why not the others 1 without a phone number" in said
    assert "1 can get in-app messages why not the others 1 said no to them" in said


class TestChanging:
    def test_each_change_answers_with_the_page_s_parts_anew(self, web, town, still):
        first = look(web, {"format": 1, "lines": []}, {"do": "add", "about": "field:town"})
        (made,) = first["definition"]["lines"]
        assert made["field"] == "town" and first["touched"] == made["id"]
        second = look(
            web,
            first["definition"],
            {"do": "answer", "id": made["id"], "slot": "op", "form": [["op", "is"]]},
        )
        second = look(
            web,
            second["definition"],
            {"do": "answer", "id": made["id"], "slot": "value", "form": [["value", "Farrow"]]},
        )
        assert second["definition"]["lines"][0]["value"] == ["Farrow"]
        assert "2 people" in words(second["parts"]["margin"]) and "Ann" in words(
            second["parts"]["people"]
        )
        off = look(web, second["definition"], {"do": "switch", "id": made["id"]})
        assert "4 people" in words(off["parts"]["margin"])
        gone = look(web, off["definition"], {"do": "remove", "id": made["id"]})
        assert gone["definition"]["lines"] == []

    @pytest.mark.parametrize(
        ("slot", "form", "key", "value"),
        [
            ("op", [["op", "is_not"]], "op", "is_not"),
            (
                "value",
                [["value", "Farrow"], ["value", "Tarnside"], ["typed", "Hill\nHill\n Dale "]],
                "value",
                ["Farrow", "Tarnside", "Hill", "Dale"],
            ),
        ],
    )
    def test_words_of_a_field_line(self, web, town, slot, form, key, value):
        answer = look(
            web, {"lines": [line()]}, {"do": "answer", "id": "a", "slot": slot, "form": form}
        )
        assert answer["definition"]["lines"][0][key] == value

    @pytest.mark.parametrize(
        ("field", "op", "form", "value"),
        [
            ("score", "between", [["value", "5"], ["second", "1,000.5"]], [5, 1000.5]),
            ("score", "at_least", [["value", "7"]], 7),
            ("renewal", "in_next", [["value", "60"]], 60),
            (
                "renewal",
                "between",
                [["value", "2026-02-28"], ["second", "2026-03-01"]],
                ["2026-02-28", "2026-03-01"],
            ),
            ("renewal", "on", [["value", "2028-02-29"]], "2028-02-29"),
            ("town", "contains", [["value", "  arr "]], "arr"),
            ("tier", "is", [["value", "Patron"]], ["Patron"]),
        ],
    )
    def test_values_are_read_by_type(self, web, town, field, op, form, value):
        start = {
            "score": 1,
            "renewal": {"in_next": 1, "on": "2026-01-01"}.get(op, ["2026-01-01", "2026-01-02"]),
            "town": "x",
            "tier": ["Single"],
        }[field]
        given = {
            "id": "a",
            "kind": "field",
            "field": field,
            "op": op,
            "value": [1, 2] if (field, op) == ("score", "between") else start,
        }
        answer = look(
            web, {"lines": [given]}, {"do": "answer", "id": "a", "slot": "value", "form": form}
        )
        assert answer["definition"]["lines"][0]["value"] == value

    @pytest.mark.parametrize(
        ("field", "op", "value", "form", "says"),
        [
            ("score", "at_least", 1, [["value", "many"]], "many"),
            ("renewal", "in_next", 1, [["value", "soon"]], "“soon” is not a whole number"),
            (
                "renewal",
                "on",
                "2026-01-01",
                [["value", "2026-02-30"]],
                "“2026-02-30” is not a date",
            ),
            ("town", "contains", "x", [["value", "  "]], "Type some text"),
            ("tier", "is", ["Single"], [], "Choose at least one"),
        ],
    )
    def test_what_cannot_be_read_is_told_with_its_line(
        self, web, town, field, op, value, form, says
    ):
        answer = web.post(
            "/segments/look",
            json={
                "definition": {
                    "lines": [
                        {"id": "a", "kind": "field", "field": field, "op": op, "value": value}
                    ]
                },
                "change": {"do": "answer", "id": "a", "slot": "value", "form": form},
            },
        )
        assert (
            answer.status_code == 422
            and says in answer.json["error"]
            and answer.json["where"] == "a"
        )

    @pytest.mark.parametrize(
        ("slot", "form", "expected"),
        [
            ("did", [["did", "no"]], {"did": False}),
            ("times", [["times_op", "exactly"], ["n", "2"]], {"times": {"op": "exactly", "n": 2}}),
            ("span", [["span", "ever"]], {"span": {}}),
            ("span", [["span", "last"], ["days", "7"]], {"span": {"last": 7}}),
            (
                "span",
                [["span", "fixed"], ["from", "2026-01-01"], ["to", "2026-02-01"]],
                {"span": {"from": "2026-01-01", "to": "2026-02-01"}},
            ),
            (
                "where",
                [["detail", "amount"], ["op-amount", "at_least"], ["value-amount", "20"]],
                {"where": [{"detail": "amount", "op": "at_least", "value": 20}]},
            ),
            (
                "where",
                [["detail", "night"], ["op-night", "contains"], ["value-night", "Moon"]],
                {"where": [{"detail": "night", "op": "contains", "value": "Moon"}]},
            ),
        ],
    )
    def test_words_of_an_event_line(self, web, town, slot, form, expected):
        answer = look(
            web, {"lines": [EVENT]}, {"do": "answer", "id": "a", "slot": slot, "form": form}
        )
        (changed,) = answer["definition"]["lines"]
        assert {k: changed.get(k, True) for k in expected} == expected

    def test_a_detail_can_be_taken_away_again(self, web, town):
        with_detail = {**EVENT, "where": [{"detail": "amount", "op": "at_least", "value": 20}]}
        answer = look(
            web,
            {"lines": [with_detail]},
            {"do": "answer", "id": "a", "slot": "where0", "form": [["remove", "1"]]},
        )
        assert answer["definition"]["lines"][0].get("where", []) == []


class TestOpening:
    @pytest.mark.parametrize(
        ("node", "slot", "shows"),
        [
            (line(), "op", "is blank"),
            (line(), "value", "Tarnside"),
            (line(), "field", "tier"),
            (EVENT, "times", "at least"),
            (EVENT, "span", "days"),
            (EVENT, "did", "did not"),
            (EVENT, "where", "Moon"),
            ({"id": "a", "kind": "group", "match": "any", "lines": []}, "match", "none of"),
        ],
    )
    def test_every_word_has_a_form(self, web, town, node, slot, shows):
        answer = web.post(
            "/segments/word", json={"definition": {"lines": [node]}, "id": "a", "slot": slot}
        )
        assert answer.status_code == 200 and shows in answer.json["form"]

    def test_the_picker_offers_fields_and_what_people_did(self, web, town):
        form = words(web.post("/segments/word", json={"slot": "new"}).json["form"])
        assert "bought a ticket" in form and "tier" in form and "whose company" in form

    def test_a_line_that_is_gone(self, web, town):
        assert (
            web.post(
                "/segments/word", json={"definition": {"lines": []}, "id": "zz", "slot": "op"}
            ).status_code
            == 422
        )


class TestSaved:
    def save(self, web, name="Farrow people", **more):
        answer = web.post(
            "/segments/save", json={"definition": {"lines": [line()]}, "name": name, **more}
        )
        return answer

    def test_saved_shown_restored_frozen_deleted(self, web, town, database):
        assert self.save(web).json == {"to": "/segments/1"}
        assert "Farrow people" in web.get("/segments").text and "town" in words(
            web.get("/segments").text
        )
        assert "2" in words(web.get("/segments/1").text)
        changed = {"lines": [line(value=["Tarnside"])]}
        web.post(
            "/segments/save",
            json={"definition": changed, "name": "Farrow people", "segment": 1, "version": 1},
        )
        assert "Cy" in words(web.get("/segments/1/people").text)
        history = words(web.get("/segments/1/history").text)
        assert "Tarnside" in history and "Farrow" in history
        web.post("/segments/1/restore/1")
        forget()
        shown = words(web.get("/segments/1/people").text)
        assert "Ann" in shown and "Bo" in shown and "Cy" not in shown
        listed = web.post("/segments/1/freeze")
        assert "Ann" in words(web.get(listed.location).text)
        assert web.post("/segments/1/delete").location == "/segments"
        assert web.get("/segments/1").status_code == 404
        with database.session() as session:
            assert session.execute(sa.text("SELECT count(*) FROM list_members")).scalar() == 2

    def test_two_authors_never_overwrite_each_other(self, web, town):
        self.save(web)
        assert self.save(web, segment=1, version=1).status_code == 200
        answer = self.save(web, segment=1, version=1)
        assert (
            answer.status_code == 409
            and "saved this segment while you were editing" in answer.json["error"]
        )

    def test_a_name_is_needed_and_only_once(self, web, town):
        assert self.save(web, name=" ").status_code == 422
        self.save(web)
        assert self.save(web).status_code == 409

    def test_viewers_look_and_do_not_save(self, client, town):
        sign_in(client, "viewer")
        assert client.get("/segments/new").status_code == 200
        assert self.save(client).status_code == 403

    def test_one_that_names_what_is_gone_is_shown_with_what_is_wrong(self, web, town, database):
        self.save(web)
        with database.session() as session:
            session.execute(
                sa.text(
                    "UPDATE segments SET definition = replace(definition::text, '\"town\"', "
                    "'\"county\"')::jsonb"
                )
            )
        assert (
            "county" in words(web.get("/segments/1").text)
            and "Has an error" in web.get("/segments").text
        )
        assert web.get("/segments/1/people").status_code == 409
