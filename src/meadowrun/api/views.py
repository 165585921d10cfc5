"""The API's endpoints about events, fields and topics; its description; and all other endpoints,
which are registered by importing their modules."""

from typing import Any

import flask

from meadowrun.api import (
    audience,
    bringing,
    colleagues,
    contacts,
    guardrails,
    labels,
    lists,
    order,
    scoring,
    sending,
    signing_up,
    walking,
)
from meadowrun.api.door import (
    PATHS,
    TEXT,
    VIEWS,
    Json,
    endpoint,
    pages,
    thing,
)
from meadowrun.base.audit import Actor
from meadowrun.core.audience.fields import TYPES
from meadowrun.core.audience.schema import schema
from meadowrun.core.journeys import schema as itinerary_form
from meadowrun.people import actions as people
from meadowrun.people import queries
from meadowrun.shell.request import Answer, body, db, now, public, settings
from meadowrun.tracking import taking

#: Importing these modules has registered their endpoints on the same pages.
__all__ = [
    "WITHOUT_CSRF",
    "audience",
    "bringing",
    "colleagues",
    "contacts",
    "guardrails",
    "labels",
    "lists",
    "order",
    "pages",
    "scoring",
    "sending",
    "signing_up",
    "walking",
]

_EVENT: Json = thing(
    ["event"],
    **{
        "event": {
            **TEXT,
            "pattern": "^[a-z][a-z0-9_]{0,59}$",
            "description": "What happened: ticket_bought",
        },
        "contact": {"type": "integer", "description": "The contact’s number"},
        "email": {
            **TEXT,
            "description": "or their address; an unknown one becomes a contact without consent",
        },
        "at": {
            **TEXT,
            "format": "date-time",
            "description": "When, with its zone; now if left out",
        },
        "id": {
            **TEXT,
            "maxLength": 200,
            "description": "Your id of it: the same id is stored once",
        },
        "details": {"type": "object", "description": 'Typed details: {"amount": 24.0}'},
    },
)


@endpoint(
    "post",
    "/v1/events",
    "Record up to 1,000 events; one whose id was taken before is not stored again",
    takes=thing(
        ["events"],
        events={"type": "array", "minItems": 1, "maxItems": taking.MOST_EVENTS, "items": _EVENT},
    ),
    gives=(
        "How many were stored, were known already, and created a contact; and the details that do "
        "not fit, kept aside"
    ),
    held_to=False,
)
def record_events(actor: Actor) -> Answer:
    taken = taking.take_events(db(), now(), f"key:{flask.g.api_key.id}", body().get("events"))
    return flask.jsonify(
        stored=taken.stored,
        known_before=taken.known_before,
        newcomers=taken.newcomers,
        aside=[
            {
                "event": one.place,
                "detail": one.detail,
                "value": one.value,
                "why": f"{one.detail} {one.why}; it is kept aside, to be fixed",
            }
            for one in taken.aside
        ],
    )


@endpoint("get", "/v1/fields", "Fields and kinds of event: what segments and fill-ins can be about")
def dictionary(actor: Actor) -> Answer:
    words = queries.dictionary(db())
    return flask.jsonify(
        fields=[
            {
                "ref": f.ref,
                "label": f.label,
                "type": f.type,
                "options": list(f.options),
                "meaning": f.meaning,
            }
            for f in words.fields.values()
        ],
        events=[
            {"event": e.key, "did": e.did, "details": {d.key: d.type for d in e.details}}
            for e in words.events.values()
        ],
    )


@endpoint(
    "post",
    "/v1/fields",
    "Add an own field of contacts or of companies",
    codes=(201,),
    takes=thing(
        ["label", "type"],
        label=TEXT,
        type={"enum": list(TYPES)},
        owner={"enum": ["contact", "company"], "default": "contact"},
        options={"type": "array", "items": TEXT},
        meaning=TEXT,
    ),
)
def add_field(actor: Actor) -> Answer:
    data = body()
    made = people.add_field(
        db(),
        actor,
        now(),
        data.get("owner", "contact"),
        data["label"],
        data["type"],
        data.get("options", []),
        data.get("meaning", ""),
    )
    return flask.jsonify(key=made.key, label=made.label, type=made.type, owner=made.owner), 201


@endpoint("get", "/v1/topics", "Topics, and what one can agree to")
def all_topics(actor: Actor) -> Answer:
    return flask.jsonify(
        items=[
            {
                "key": t.key,
                "name": t.name,
                "about": t.about,
                "often": t.often,
                "by_language": t.by_language,
            }
            for t in queries.topics(db())
        ]
    )


@pages.get("/itinerary.schema.json")
@public
def itinerary_schema() -> Answer:
    """The JSON Schema of a journey's itinerary."""
    return flask.jsonify(itinerary_form.schema())


@pages.get("/segment.schema.json")
@public
def segment_schema() -> Answer:
    return flask.jsonify(schema(f"{settings().public_url}/api/segment.schema.json"))


@pages.get("/openapi.json")
@public
def openapi() -> Answer:
    """OpenAPI 3.1, gathered from the endpoints themselves."""
    return flask.jsonify(
        {
            "openapi": "3.1.0",
            "info": {"title": "Meadowrun", "version": "1"},
            "servers": [{"url": settings().public_url}],
            "components": {"securitySchemes": {"key": {"type": "http", "scheme": "bearer"}}},
            "security": [{"key": []}],
            "paths": PATHS,
        }
    )


#: Grows with every endpoint; keys are no cookies, so nobody can be made to send one.
WITHOUT_CSRF: list[Any] = VIEWS
