"""People brought in by the API: a file handed in, matched, tried, carried out; what is refused says
where and why."""

import io

import jsonschema
import pytest

from meadowrun.base import clock, jobs
from tests.conftest import NOW
from tests.store.importing import FILE, known

KEY = {"Authorization": "Bearer key_x"}


@pytest.fixture
def handed(client, api, database, job_context):
    """The dirty little file of test_imports, handed in; the API's call, and the number of the
    import."""
    known(database)
    with clock.at(NOW):
        answer = client.post(
            "/api/v1/imports", data={"file": (io.BytesIO(FILE.encode()), "fair.csv")}, headers=KEY
        )
    assert answer.status_code == 201
    return api, answer.json


def tried(call, ident, **matching):
    status, answer = call("put", f"/imports/{ident}/matching", matching)
    assert (status, answer["state"]) == (202, "checking"), answer
    with clock.at(NOW):
        jobs.run_here("imports.run", import_id=ident, dry=True)
    return call("get", f"/imports/{ident}")[1]


def test_from_file_to_people(handed):
    call, made = handed
    assert made["state"] == "matching" and made["columns"] == [
        "Email",
        "First name",
        "Last name",
        "Town",
        "Company",
    ]
    assert made["matching"]["targets"] == ["email", "first_name", "last_name", "town", "company"]
    assert made["sample"][0][2] == "Rook, the elder"
    found = tried(
        call,
        made["id"],
        known="update",
        consent="ticked at the fair",
        channels=["email"],
        list_name="Fair",
    )
    assert found["state"] == "checked" and found["rows"] == 5
    # By hand: ann, opted out and suppressed ones are known or new; one row has no address that
    # could be one.
    would = found["would"]
    assert (would["rows"], would["refused"], would["new"]) == (5, 1, 2) and found["did"] == {}
    assert call("post", "/contacts/find", {"email": "ben@a.example"})[1]["items"] == []
    status, answer = call("post", f"/imports/{made['id']}/go")
    assert (status, answer["state"]) == (202, "importing")
    with clock.at(NOW):
        jobs.run_here("imports.run", import_id=made["id"], dry=False)
    done = call("get", f"/imports/{made['id']}")[1]
    assert done["state"] == "done" and done["did"] == would and done["list"] is not None
    ben = call("post", "/contacts/find", {"email": "ben@a.example"})[1]["items"][0]
    assert ben["first_name"] == "Bén" and [c["how"] for c in ben["consent"] if c["agreed"]] == [
        "ticked at the fair (import of fair.csv)"
    ]
    assert (
        call("post", "/contacts/find", {"email": "ann@a.example"})[1]["items"][0]["last_name"]
        == "Rook, the elder"
    )
    opted_out = call("post", "/contacts/find", {"email": "optout@a.example"})[1]["items"][0]
    assert [c["agreed"] for c in opted_out["consent"] if c["channel"] == "email"] == [False]
    assert len(call("get", f"/lists/{done['list']}/members")[1]["items"]) == 4
    assert call("get", f"/imports/{made['id']}/refused")[1]["items"] == [
        {
            "row": 4,
            "column": "Email",
            "reason": "“no-at-sign” has no @",
            "cells": ["no-at-sign", "X", "Y", "", ""],
        }
    ]
    assert call("post", f"/imports/{made['id']}/go")[0] == 409
    assert [i["id"] for i in call("get", "/imports")[1]["items"]] == [made["id"]]


def test_a_column_becomes_a_field_and_refusals_come_page_by_page(
    client, api, database, job_context
):
    content = (
        "Email,Shoe size\n" + "".join(f"bad{n},{n}\n" for n in range(5)) + "good@a.example,41\n"
    )
    with clock.at(NOW):
        made = client.post(
            "/api/v1/imports",
            data={"file": (io.BytesIO(content.encode()), "shoes.csv")},
            headers=KEY,
        ).json
        found = tried(
            api,
            made["id"],
            targets=["email", ""],
            new={"Shoe size": {"type": "number", "label": "Shoe"}},
        )
        assert found["would"]["refused"] == 5 and found["matching"]["targets"] == [
            "email",
            "own:shoe",
        ]
        api("post", f"/imports/{made['id']}/go")
        jobs.run_here("imports.run", import_id=made["id"], dry=False)
    assert api("post", "/contacts/find", {"email": "good@a.example"})[1]["items"][0]["shoe"] == 41
    first = api("get", f"/imports/{made['id']}/refused?limit=3")[1]
    rest = api("get", f"/imports/{made['id']}/refused?limit=3&after={first['after']}")[1]
    assert [r["row"] for r in first["items"] + rest["items"]] == [
        2,
        3,
        4,
        5,
        6,
    ] and "after" not in rest


@pytest.mark.parametrize(
    ("matching", "where"),
    [
        ({"targets": ["email"]}, "targets"),
        ({"targets": ["email", "", "", "", 7]}, "targets.4"),
        ({"targets": "email"}, "targets"),
        ({"targets": ["own:nothing", "", "", "", ""]}, "targets"),
        ({"targets": ["", "", "", "", ""]}, "targets"),
        ({"identify": "name"}, "identify"),
        ({"known": "maybe"}, "known"),
        ({"channels": ["fax"], "consent": "x"}, "channels.0"),
        ({"channels": ["email"]}, "consent"),
        ({"topics": [99]}, "topics"),
        ({"day_first": "yes"}, "day_first"),
        ({"consent": 5}, "consent"),
        ({"new": {"Nowhere": {"type": "text"}}}, "new"),
        ({"new": {"Town": {"type": "colour"}}}, "new.Town.type"),
        ({"new": []}, "new"),
    ],
)
def test_what_cannot_be_matched_names_its_place(handed, matching, where):
    call, made = handed
    status, answer = call("put", f"/imports/{made['id']}/matching", matching)
    assert (status, answer["where"]) == (422, where), answer
    assert call("get", f"/imports/{made['id']}")[1]["state"] == "matching"


def test_what_is_no_file(client, api, job_context):
    for data in (
        {},
        {"file": (io.BytesIO(b""), "empty.csv")},
        {"file": (io.BytesIO(b"\x89PNG\r\n\x1a\n\x00\x00"), "a.png")},
    ):
        answer = client.post("/api/v1/imports", data=data, headers=KEY)
        assert (answer.status_code, answer.json["where"]) == (422, "file"), answer.json
    assert (
        api("get", "/imports/9")[0] == 404
        and api("get", "/imports/9/refused")[0] == 404
        and api("post", "/imports/9/go")[0] == 404
    )


def test_it_is_described_as_a_form(client):
    described = client.get("/api/openapi.json").json["paths"]
    assert set(described["/api/v1/imports"]["post"]["requestBody"]["content"]) == {
        "multipart/form-data"
    }
    takes = described["/api/v1/imports/{ident}/matching"]["put"]["requestBody"]["content"][
        "application/json"
    ]["schema"]
    jsonschema.Draft202012Validator.check_schema(takes)
    jsonschema.validate(
        {"targets": ["email"], "known": "fill", "new": {"A": {"type": "number"}}}, takes
    )
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({"known": "maybe"}, takes)
