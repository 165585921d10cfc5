"""The API's endpoints that bring people in from files: handed in, matched and tried, carried out,
what was refused."""

import flask

from meadowrun.api.door import MOST, NUMBERS, PAGED, TEXT, Json, endpoint, paged, thing, whole
from meadowrun.api.labels import paths
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core import countries
from meadowrun.core import people_file as pf
from meadowrun.core.audience.fields import TYPES
from meadowrun.core.language import Wording
from meadowrun.imports import actions, queries
from meadowrun.imports.models import Import
from meadowrun.people.queries import topics
from meadowrun.shell.request import Answer, body, db, now, settings, uploaded

_TARGET = {
    **TEXT,
    "description": "by column, in the file’s order: a standard field (email, first_name …), "
    "“own:<key>”, “agreed:email”, "
    "“agreed:sms”, or nothing to leave the column out",
}
_CHANNELS = list(pf.SAID.values())


def _import(found: Import) -> Json:
    """An import as the API tells it. `matching` is what was guessed, or chosen last; counts come
    with the dry run, then with the real one."""
    return {
        "id": found.id,
        "file": found.file_name,
        "state": found.state,
        "columns": found.columns,
        "sample": found.sample,
        "matching": found.plan,
        "rows": found.rows_total,
        "rows_done": found.rows_done,
        "would": found.dry_counts,
        "did": found.counts,
        "problem": found.problem,
        "list": found.list_id,
    }


@endpoint("get", "/v1/imports", "The latest imports, newest first")
def imports(actor: Actor) -> Answer:
    return flask.jsonify(items=[_import(found) for found in queries.recent(db())])


@endpoint(
    "post",
    "/v1/imports",
    (
        "Upload a file of people, CSV or XLSX; nothing changes until it is matched, checked and "
        "carried out"
    ),
    takes=thing(["file"], file={**TEXT, "format": "binary"}),
    as_form=True,
    codes=(201,),
    gives="How it was read: its columns, first rows, and a guess at what they are",
)
def hand_in(actor: Actor) -> Answer:
    file = flask.request.files.get("file")
    if file is None or not file.filename:
        raise Invalid("Send the file as “file” of a form: curl -F file=@people.csv …", "file")
    return flask.jsonify(
        _import(
            actions.upload(db(), actor, now(), file.filename, uploaded(file), settings().country)
        )
    ), 201


@endpoint(
    "get",
    "/v1/imports/<int:ident>",
    "An import: its state (matching, checking, checked, importing, done, failed) and counts",
)
def one_import(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(_import(actions.get(db(), ident)))


@endpoint(
    "put",
    "/v1/imports/<int:ident>/matching",
    "Match the columns, and start the dry run over every row",
    codes=(202,),
    takes=thing(
        [],
        targets={"type": "array", "items": _TARGET},
        new={
            "type": "object",
            "description": "columns that become new fields, by their heading",
            "additionalProperties": thing(["type"], label=TEXT, type={"enum": list(TYPES)}),
        },
        identify={"enum": ["email", "reference"]},
        known={
            "enum": ["update", "fill", "keep"],
            "description": "what happens to the record of a person who is known already",
        },
        day_first={"type": "boolean"},
        country={
            "enum": ["", *countries.names()],
            "description": (
                "of telephone numbers that do not name theirs; empty: these are not taken"
            ),
        },
        bad_cells={
            "enum": ["refuse", "leave_out"],
            "description": "whether a cell that cannot be read rejects its row, or is left out",
        },
        consent={
            **TEXT,
            "description": "how they agreed, in words; without it nobody’s consent is recorded",
        },
        channels={
            "type": "array",
            "items": {"enum": _CHANNELS},
            "description": "what every new contact agreed to",
        },
        topics={**NUMBERS, "description": "of email; 0 for all of it"},
        list_name={**TEXT, "description": "a list to put everybody of the file on"},
        tags={"type": "array", "items": TEXT, "description": "tags for everybody of the file"},
    ),
)
def match(actor: Actor, ident: int) -> Answer:
    found, data = actions.get(db(), ident), body()
    plan, new = _plan(found, data), {}
    for heading, field in data.get("new", {}).items():
        if heading not in found.columns:
            raise Invalid(
                Wording(
                    "“new” names columns of the file; it has none called “%(heading)s”.",
                    heading=heading,
                ),
                "new",
            )
        new[found.columns.index(heading)] = (field.get("label") or heading, field["type"])
    actions.set_plan(db(), actor, now(), found, plan, new)
    return flask.jsonify(_import(found)), 202


def _plan(found: Import, data: Json) -> pf.Plan:
    """The matching that was sent, over the one there is. Raises Invalid naming the member."""
    before = pf.Plan.from_json(found.plan)
    targets = data.get("targets", list(before.targets))
    if len(targets) != len(found.columns):
        raise Invalid(
            Wording(
                "“targets” has one text for each of the %(columns)s columns.",
                columns=len(found.columns),
            ),
            "targets",
        )
    channels, about = data.get("channels", []), data.get("topics", [0])
    if not set(about) <= {0, *(topic.id for topic in topics(db()))}:
        raise Invalid("“topics” names a topic that does not exist; 0 is all email.", "topics")
    consent = " ".join(data.get("consent", "").split())
    if channels and not consent:
        raise Invalid(
            "Say how the new contacts agreed, as evidence; or leave out “channels”.",
            "consent",
        )
    return pf.Plan(
        targets=tuple(targets),
        identify=data.get("identify", before.identify),
        known=data.get("known", before.known),
        day_first=data.get("day_first", before.day_first),
        country=data.get("country", before.country),
        bad_cells=data.get("bad_cells", "refuse"),
        consent=consent,
        channels=tuple(channels),
        topics=tuple(sorted({0, *about})),
        list_name=" ".join(data.get("list_name", "").split()),
        tags=tuple(paths(data.get("tags", []))),
    )


@endpoint(
    "post", "/v1/imports/<int:ident>/go", "Carry out an import whose dry run is done", codes=(202,)
)
def carry_out(actor: Actor, ident: int) -> Answer:
    found = actions.get(db(), ident)
    actions.carry_out(db(), actor, now(), found)
    return flask.jsonify(_import(found)), 202


@endpoint(
    "get",
    "/v1/imports/<int:ident>/refused",
    "The rejected rows, each with its column and reason, page by page",
    query=PAGED,
)
def refused(actor: Actor, ident: int) -> Answer:
    after, limit = whole("after", 0), whole("limit", 100, MOST)
    rows = queries.refusals(db(), actions.get(db(), ident).id, limit + 1, after)
    return paged(
        rows,
        limit,
        lambda r: {"row": r.row, "column": r.column, "reason": r.reason, "cells": r.cells},
        lambda r: r.row,
    )
