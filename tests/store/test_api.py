"""The JSON API: keys, its description, suppressions, and segments with all that they are used
for."""

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.base.cache import forget
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.schema import schema
from tests.conftest import NOW
from tests.luck import tries
from tests.store.conditions import nodes, numbered
from tests.store.people import add


def line(**more):
    return {
        "lines": [
            {"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"], **more}
        ]
    }


class TestDescription:
    def test_everything_served_is_described_and_asks_for_a_key(self, client):
        described = client.get("/api/openapi.json").json
        jsonschema.Draft202012Validator.check_schema(client.get("/api/segment.schema.json").json)
        served = {}
        for rule in client.application.url_map.iter_rules():
            if rule.rule.startswith("/api/v1"):
                path = (
                    rule.rule.replace("<int:", "{")
                    .replace("<path:", "{")
                    .replace("<", "{")
                    .replace(">", "}")
                )
                served.setdefault(path, set()).update(
                    m.lower() for m in rule.methods - {"HEAD", "OPTIONS"}
                )
                for method in rule.methods - {"HEAD", "OPTIONS"}:
                    url = rule.rule.replace("<int:ident>", "1").replace("<int:contact>", "1")
                    assert client.open(url, method=method).status_code == 403, (method, url)
        assert {path: set(methods) for path, methods in described["paths"].items()} == served
        for path, methods in described["paths"].items():
            for operation in methods.values():
                assert operation["summary"] and {
                    p["name"] for p in operation["parameters"] if p["in"] == "path"
                } == {part[1:-1] for part in path.split("/") if part.startswith("{")}

    def test_a_dead_key(self, api):
        assert api("get", "/lists", key="key_y")[0] == 403


@tries(150)
@given(st.lists(nodes, max_size=3))
def test_whatever_is_written_down_fits_the_published_schema(people_and_words, lines):
    _, _, dictionary = people_and_words
    written = d.dump(d.parse(numbered(lines), dictionary))
    jsonschema.Draft202012Validator(schema("x")).validate(written)


@pytest.mark.parametrize(
    "broken",
    [
        {},
        {"lines": [{"kind": "field"}]},
        line(op="resembles"),
        line(id="not good!"),
        {"lines": [], "extra": 1},
        {"lines": [{"id": "a", "kind": "event", "event": "x", "span": {"last": -1}}]},
        {"lines": [{"id": "a", "kind": "spell"}]},
        {"lines": [{"id": "a", "kind": "share", "percent": 101, "salt": "x"}]},
    ],
)
def test_rubbish_does_not_fit_it(broken):
    assert not jsonschema.Draft202012Validator(schema("x")).is_valid(broken)


class TestAudiences:
    @pytest.fixture
    def patrons(self, api):
        for n, tier in enumerate(["Patron", "Single", "Patron"]):
            api(
                "put",
                "/contacts",
                {
                    "email": f"p{n}@post.example",
                    "tier": tier,
                    "consent": {"agreed": n == 0, "how": "test"},
                },
            )
        forget()
        return api("post", "/segments", {"name": "Patrons", "definition": line()})[1]

    def test_saved_counted_members_and_why(self, api, patrons):
        assert (
            api("get", f"/segments/{patrons['id']}")[1]["says"] == "Everyone whose tier is Patron."
        )
        count = api("post", "/segments/count", {"definition": line()})[1]
        assert (count["size"], count["everyone"], count["reach"]) == (
            2,
            3,
            {"email": {"go": 1, "no_consent": 1}},
        )
        assert [c["id"] for c in api("get", "/segments/1/members")[1]["items"]] == [1, 3]
        assert api("get", "/segments/1/members?limit=1&after=1")[1]["items"][0]["id"] == 3
        why = api("get", "/segments/1/why/2")[1]
        assert why.pop("as_of") and why == {
            "inside": False,
            "lines": [
                {
                    "id": "a",
                    "says": "whose tier is Patron",
                    "here": "Single",
                    "holds": False,
                    "inside": [],
                }
            ],
        }

    def test_versions_keep_two_programs_apart(self, api, patrons):
        assert (
            api("put", "/segments/1", {"definition": line(value=["Single"]), "version": 1})[1][
                "version"
            ]
            == 2
        )
        assert api("put", "/segments/1", {"definition": line(), "version": 1})[0] == 409
        assert (
            api("post", "/segments", {"name": "Bad", "definition": line(field="county")})[1][
                "where"
            ]
            == "a"
        )
        assert api("delete", "/segments/1")[0] == 200 and api("get", "/segments")[1]["items"] == []

    def test_groupings(self, api, patrons):
        assert api("post", "/groupings", {"name": "Tiers"})[0] == 201
        made = api("put", "/groupings/1", {"do": "set", "name": "Patrons", **line(), "version": 1})[
            1
        ]
        assert (made["version"], [p["name"] for p in made["groups"]]) == (2, ["Patrons"])
        assert [(s["name"], s["size"]) for s in api("get", "/groupings/1/sizes")[1]["items"]] == [
            ("Patrons", 2),
            ("everyone else", 1),
        ]
        assert (
            api(
                "put",
                "/groupings/1",
                {"do": "set", "name": "Singles", **line(value=["Single"]), "version": 1},
            )[0]
            == 409
        )
        assert (
            api("put", "/groupings/1", {"do": "set", "name": "Nobody", "lines": []})[1]["where"]
            == "lines"
        )
        assert (
            api("put", "/groupings/1", {"do": "polish", "key": made["groups"][0]["key"]})[0] == 422
        )
        assert api("delete", "/groupings/1")[0] == 200 and api("get", "/groupings")[1] == {
            "items": []
        }

    def test_frozen_as_a_list(self, api, patrons):
        assert api("post", "/segments/1/freeze") == (201, {"id": 1, "name": "Patrons", "people": 2})
        api("put", "/contacts/2", {"tier": "Patron"})
        assert [c["id"] for c in api("get", "/lists/1/members")[1]["items"]] == [1, 3]
        assert api("post", "/segments/9/freeze")[0] == 404

    def test_a_contact_changed_by_number_and_made_one_with_another(self, api, patrons):
        changed = api(
            "put",
            "/contacts/2",
            {
                "email": "new@post.example",
                "town": "Tarnside",
                "consent": {"channel": "sms", "agreed": True, "how": "at the desk"},
            },
        )[1]
        assert (changed["email"], changed["town"], changed["tier"]) == (
            "new@post.example",
            "Tarnside",
            "Single",
        )
        assert api("put", "/contacts/2", {"email": "nope"})[1]["where"] == "email"
        merged = api("post", "/contacts/1/merge", {"gone": 2, "take": ["email"]})[1]
        assert (merged["id"], merged["email"], merged["tier"], merged["town"]) == (
            1,
            "new@post.example",
            "Patron",
            "Tarnside",
        )
        assert api("get", "/contacts/2")[0] == 404
        assert api("post", "/contacts/1/merge", {"gone": "3"})[1]["where"] == "gone"
        assert api("post", "/contacts/1/merge", {"gone": 3, "take": "email"})[1]["where"] == "take"

    def test_own_fields_are_added(self, api, patrons):
        assert api("post", "/fields", {"label": "shoe size", "type": "number"}) == (
            201,
            {"key": "shoe_size", "label": "shoe size", "type": "number", "owner": "contact"},
        )
        assert api("put", "/contacts/1", {"shoe_size": 44})[1]["shoe_size"] == 44
        assert api("post", "/fields", {"label": "shoe size", "type": "number"})[0] == 409
        assert api("post", "/fields", {"label": "x", "type": "colour"})[1]["where"] == "type"
        assert (
            api("post", "/fields", {"label": "x", "type": "choice", "options": "a"})[1]["where"]
            == "options"
        )
        assert api("get", "/topics")[1] == {"items": []}

    def test_versions_are_read_and_brought_back(self, api, patrons):
        api("put", "/segments/1", {"definition": line(value=["Single"]), "version": 1})
        found = api("get", "/segments/1/versions")[1]["items"]
        assert [(v["version"], v["english"]) for v in found] == [
            (2, "Everyone whose tier is Single."),
            (1, "Everyone whose tier is Patron."),
        ]
        back = api("post", "/segments/1/restore", {"version": 1})[1]
        assert (back["version"], back["definition"]["lines"][0]["value"]) == (3, ["Patron"])
        assert (
            api("post", "/segments/1/restore", {"version": 9})[0] == 404
            and api("get", "/segments/9/versions")[0] == 404
        )
        assert api("post", "/segments/1/restore", {"version": "1"})[1]["where"] == "version"

    def test_compared_and_profiled(self, api, patrons):
        for n in range(30):
            api(
                "put",
                "/contacts",
                {"email": f"s{n}@post.example", "tier": "Single", "town": "Weir"},
            )
        api(
            "post",
            "/segments",
            {
                "name": "Singles of Weir",
                "definition": {
                    "lines": [
                        {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Weir"]}
                    ]
                },
            },
        )
        forget()
        parts = api("get", "/segments/compare?of=1,2")[1]["items"]
        assert {(tuple(p["in"]), tuple(p["not_in"])): p["people"] for p in parts} == {
            ((1,), (2,)): 2,
            ((2,), (1,)): 30,
            ((1, 2), ()): 0,
        }
        assert (
            api("get", "/segments/compare?of=1")[1]["where"] == "of"
            and api("get", "/segments/compare?of=1,x")[1]["where"] == "of"
        )
        traits = {
            (t["about"], t["value"]): t for t in api("get", "/segments/2/profile")[1]["items"]
        }
        # 31 of the 33 are single, 30 of the 30 in the segment; none of those three outside it is of
        # Weir.
        assert traits[("town", "Weir")]["people"] == 30 and traits[("town", "Weir")]["share"] == 1
        assert traits[("tier", "Patron")]["people"] == 0 and traits[("tier", "Patron")][
            "everyone"
        ] == pytest.approx(2 / 33)

    def test_a_frozen_list_is_worked_out_again(self, api, patrons):
        api("post", "/segments/1/freeze")
        api("put", "/contacts/2", {"tier": "Patron"})
        forget()
        assert api("post", "/lists/1/again")[1] == {"segment": 1, "people": 3}
        assert [c["id"] for c in api("get", "/lists/1/members")[1]["items"]] == [1, 2, 3]
        api("post", "/lists", {"name": "By hand", "contacts": [1]})
        assert api("post", "/lists/2/again")[0] == 422 and api("post", "/lists/9/again")[0] == 404

    def test_fields_are_changed_merged_and_retired(self, api, patrons):
        made = {f["ref"]: f for f in api("get", "/fields/own")[1]["items"]}
        tier = made["tier"]
        assert (tier["filled"], tier["of"], tier["commonest"][0], tier["used_in"]) == (
            3,
            3,
            {"value": "Patron", "count": 2},
            ["the segment “Patrons”"],
        )
        changed = api(
            "put",
            f"/fields/{tier['id']}",
            {
                "label": "rung",
                "meaning": "how near they are",
                "options": ["Single", "Patron", "Life"],
            },
        )[1]
        assert (changed["ref"], changed["label"], changed["options"], changed["retired"]) == (
            "tier",
            "rung",
            ["Single", "Patron", "Life"],
            False,
        )
        assert api("put", f"/fields/{tier['id']}", {"options": ["Single"]})[1]["where"] == "options"
        assert api("put", f"/fields/{tier['id']}", {"options": "Single"})[1]["where"] == "options"
        assert api("put", f"/fields/{tier['id']}", {"retired": True})[1]["retired"] is True
        assert api("put", f"/fields/{tier['id']}", {"retired": "no"})[1]["where"] == "retired"
        api("put", f"/fields/{tier['id']}", {"retired": False})
        api("post", "/fields", {"label": "level", "type": "choice", "options": ["Life"]})
        level = next(f for f in api("get", "/fields/own")[1]["items"] if f["ref"] == "level")
        api("put", "/contacts", {"email": "new@post.example", "level": "Life"})
        merged = api("post", f"/fields/{tier['id']}/merge", {"gone": level["id"]})[1]
        assert (merged["moved"], merged["filled"]) == (1, 4) and api(
            "post", "/contacts/find", {"email": "new@post.example"}
        )[1]["items"][0]["tier"] == "Life"
        assert api("post", f"/fields/{tier['id']}/merge", {"gone": "x"})[1]["where"] == "gone"

    def test_kinds_of_event_get_words(self, api, patrons):
        api("post", "/events", {"events": [{"event": "wheel_seen", "contact": 1}]})
        said = api(
            "put", "/events/kinds/wheel_seen", {"did": "saw the wheel", "do": "see the wheel"}
        )[1]
        assert {"event": "wheel_seen", "did": "saw the wheel", "details": {}} in api(
            "get", "/fields"
        )[1]["events"]
        assert (said["event"], said["did"], said["retired"]) == (
            "wheel_seen",
            "saw the wheel",
            False,
        )
        assert api("put", "/events/kinds/wheel_seen", {"did": ""})[1]["where"] == "did"
        assert api("put", "/events/kinds/wheel_seen", {"retired": 1})[1]["where"] == "retired"
        assert api("put", "/events/kinds/nothing", {"did": "x"})[0] == 404

    def test_duplicates_are_listed_and_parted_again(self, api, patrons):
        for mail in ("ann.rook@post.example", "annrook@post.example"):
            api("put", "/contacts", {"email": mail, "phone": "+44 7700 900123"})
        found = api("get", "/duplicates")[1]
        assert (
            found["items"]
            == [{"contacts": [4, 5], "why": ["nearly the same address", "the same phone"]}]
            and found["merges"] == []
        )
        api("post", "/contacts/4/merge", {"gone": 5})
        (merge,) = api("get", "/duplicates")[1]["merges"]
        assert (merge["kept"], merge["gone"]) == (4, 5)
        assert (
            api("post", f"/merges/{merge['id']}/undo")[1] == {"kept": 4, "gone": 5}
            and api("get", "/contacts/5")[0] == 200
        )
        assert api("post", f"/merges/{merge['id']}/undo")[0] in (404, 409, 422)


def test_a_page_holds_one_at_least_and_a_thousand_at_most(api, database):
    with database.session() as session:
        add(session, NOW, "ann@post.example")
    assert (
        api("get", "/contacts?limit=0")[1]["error"] == "“limit” must be a whole number, 1 at least."
    )
    assert len(api("get", "/contacts?limit=5000")[1]["items"]) == 1


@pytest.mark.parametrize(
    ("method", "path", "sent", "where", "says"),
    [
        (
            "post",
            "/segments",
            {"name": None, "definition": {"lines": []}},
            "name",
            "“name” is a text.",
        ),
        ("post", "/segments", {"name": "A"}, "definition", "“definition” is missing."),
        (
            "post",
            "/lists",
            {"name": "A", "contacts": [1.0]},
            "contacts.0",
            "“contacts.0” is a whole number.",
        ),
        (
            "post",
            "/lists",
            {"name": "A", "contacts": [True]},
            "contacts.0",
            "“contacts.0” is a whole number.",
        ),
        (
            "put",
            "/contacts",
            {"email": "a@b.example", "town": ["Farrow"]},
            "town",
            "“town” is a text or null.",
        ),
        (
            "put",
            "/contacts",
            {"email": "a@b.example", "consent": {"agreed": True}},
            "consent.how",
            "“consent.how” is missing.",
        ),
        (
            "put",
            "/contacts",
            {"email": "a@b.example", "consent": {"agreed": True, "how": "x", "channel": "fax"}},
            "consent.channel",
            "“consent.channel” is one of email, sms, push, in_app.",
        ),
        (
            "post",
            "/fields",
            {"label": "Age", "type": "years"},
            "type",
            "“type” is one of text, number",
        ),
        (
            "post",
            "/scores",
            {"name": "A", "rules": [{"points": 5}]},
            "rules.0.lines",
            "“rules.0.lines” is missing.",
        ),
    ],
)
def test_what_is_posted_is_held_to_its_description_and_the_place_named(
    api, method, path, sent, where, says
):
    status, answer = api(method, path, sent)
    assert (status, answer["where"]) == (422, where) and answer["error"].startswith(says), answer
