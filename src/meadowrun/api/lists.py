"""The API's endpoints about lists of people and suppressed addresses."""

import datetime as dt

import flask

from meadowrun.api.contacts import _contact
from meadowrun.api.door import (
    MOST,
    NUMBERS,
    PAGED,
    TEXT,
    Json,
    endpoint,
    paged,
    thing,
    whole,
)
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid
from meadowrun.people import keeping, list_queries, queries
from meadowrun.people.models import PeopleList
from meadowrun.shell import hidden
from meadowrun.shell.request import Answer, body, db, now


@endpoint("get", "/v1/lists", "Fixed lists, newest first")
def all_lists(actor: Actor) -> Answer:
    return flask.jsonify(items=[_list(found, size) for found, size in queries.lists(db())])


def _list(found: PeopleList, size: int) -> Json:
    return {
        "id": found.id,
        "name": found.name,
        "source": found.source,
        "taken_at": found.taken_at.isoformat(),
        "people": size,
    }


@endpoint(
    "post",
    "/v1/lists",
    "Make a list of these contacts",
    takes=thing(["name"], name=TEXT, contacts=NUMBERS),
    codes=(201,),
)
def make_list(actor: Actor) -> Answer:
    data = body()
    if not str(data.get("name", "")).strip():
        raise Invalid("A list needs a name.", "name")
    made = keeping.make_list(db(), actor, now(), str(data["name"]), f"API, {flask.g.api_key.name}")
    return flask.jsonify(_list(made, keeping.put_in(db(), made.id, data.get("contacts", [])))), 201


@endpoint(
    "get", "/v1/lists/<int:ident>/members", "The contacts of a list, page by page", query=PAGED
)
def list_members(actor: Actor, ident: int) -> Answer:
    existing(db(), PeopleList, ident, "list")
    limit = whole("limit", 100, MOST)
    rows = list_queries.page(db(), ident, whole("after", 0), limit + 1)
    return paged(rows, limit, _contact, lambda c: c.id)


@endpoint(
    "post",
    "/v1/lists/<int:ident>/members",
    "Add contacts to a list",
    takes=thing(["contacts"], contacts=NUMBERS),
)
def put_members(actor: Actor, ident: int) -> Answer:
    existing(db(), PeopleList, ident, "list")
    return flask.jsonify(added=keeping.put_in(db(), ident, body()["contacts"]))


@endpoint(
    "delete",
    "/v1/lists/<int:ident>/members",
    "Remove contacts from a list",
    takes=thing(["contacts"], contacts=NUMBERS),
)
def remove_members(actor: Actor, ident: int) -> Answer:
    found = existing(db(), PeopleList, ident, "list")
    return flask.jsonify(removed=keeping.take_out(db(), actor, now(), found, body()["contacts"]))


@endpoint("delete", "/v1/lists/<int:ident>", "Delete a list that nothing uses; its people stay")
def delete_list(actor: Actor, ident: int) -> Answer:
    keeping.delete_list(
        db(),
        actor,
        now(),
        existing(db(), PeopleList, ident, "list"),
        queries.uses_of_list(db(), ident),
    )
    return flask.jsonify(deleted=ident)


@endpoint(
    "get",
    "/v1/suppressions",
    "Suppressed addresses and domains in order, page by page",
    query={
        "after": {**TEXT, "description": "the “after” of the page before"},
        "limit": PAGED["limit"],
    },
)
def list_suppressions(actor: Actor) -> Answer:
    limit = whole("limit", 100, MOST)
    rows = list_queries.suppressions_after(
        db(), hidden.shown(flask.request.args.get("after", "")), limit + 1
    )
    answer: Json = {
        "items": [
            {
                "address": s.address_key,
                "reason": s.reason,
                "source": s.source,
                "at": s.at.isoformat(),
                "until": s.until.isoformat() if s.until else None,
            }
            for s in rows[:limit]
        ]
    }
    return flask.jsonify(
        answer | ({"after": hidden.hide(rows[limit - 1].address_key)} if len(rows) > limit else {})
    )


@endpoint(
    "put",
    "/v1/suppressions",
    "Suppress an address or a whole domain (“@domain”)",
    takes=thing(
        ["address"],
        address=TEXT,
        reason=TEXT,
        until={**TEXT, "format": "date-time", "description": "for ever if left out"},
    ),
)
def put_suppression(actor: Actor) -> Answer:
    data = body()
    until = None
    if data.get("until"):
        try:
            until = dt.datetime.fromisoformat(str(data["until"]))
        except ValueError:
            raise Invalid("until must be a moment like 2026-12-01T00:00:00Z.", "until") from None
        if until.tzinfo is None or until <= now():
            raise Invalid("until needs its zone, and to lie ahead.", "until")
    key = keeping.address_or_domain(str(data.get("address", "")))
    new = keeping.suppress(
        db(),
        now(),
        key,
        str(data.get("reason") or "by the API")[:300],
        f"API, {flask.g.api_key.name}",
        until,
    )
    return flask.jsonify(address=key, new=new)


@endpoint(
    "post", "/v1/suppressions/lift", "Lift a suppression", takes=thing(["address"], address=TEXT)
)
def lift_suppression(actor: Actor) -> Answer:
    address = body()["address"]
    keeping.lift_suppression(db(), actor, now(), keeping.address_or_domain(address))
    return flask.jsonify(lifted=address)
