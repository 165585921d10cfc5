"""The API's endpoints about people: contacts, companies, fields, events, lists, suppressions; and
its description."""

import datetime as dt
from typing import Any

import flask

from meadowrun.api import (
    audience,
    bringing,
    colleagues,
    guardrails,
    labels,
    order,
    scoring,
    sending,
    signing_up,
    walking,
)
from meadowrun.api.door import (
    MOST,
    NUMBERS,
    PAGED,
    PATHS,
    TEXT,
    VIEWS,
    Json,
    endpoint,
    paged,
    pages,
    thing,
    whole,
)
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid
from meadowrun.core import values
from meadowrun.core.audience.fields import TYPES
from meadowrun.core.audience.schema import schema
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.journeys import schema as itinerary_form
from meadowrun.core.language import Wording
from meadowrun.people import actions as people
from meadowrun.people import company_queries, keeping, list_queries, queries
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Company, Contact, PeopleList
from meadowrun.people.wholly import erase, everything
from meadowrun.scores.queries import kept_points
from meadowrun.shell import hidden
from meadowrun.shell.request import Answer, body, db, now, public, settings
from meadowrun.tracking import taking

#: Importing these modules has registered their endpoints on the same pages.
__all__ = [
    "WITHOUT_CSRF",
    "audience",
    "bringing",
    "guardrails",
    "labels",
    "order",
    "pages",
    "scoring",
    "sending",
    "signing_up",
    "walking",
    "colleagues",
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
_BLANK: Json = {"type": ["string", "null"]}
_CONTACT: Json = {
    **thing(
        ["email"],
        email=_BLANK,
        company=_BLANK,
        **dict.fromkeys(people.TEXT_COLUMNS, _BLANK),
        consent=thing(
            ["agreed", "how"],
            agreed={"type": "boolean"},
            how={**TEXT, "description": "the evidence, in words"},
            channel={"enum": list(CHANNEL_WORDS), "default": "email"},
            topic={**TEXT, "description": "its key; the whole channel if left out"},
        ),
        tags={
            "type": "array",
            "items": TEXT,
            "description": ("All tags of the contact, by their paths; tags not listed are removed"),
        },
    ),
    "additionalProperties": {"description": "Own fields, by key"},
}


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


@endpoint("get", "/v1/contacts", "Contacts by number, page by page", query=PAGED)
def list_contacts(actor: Actor) -> Answer:
    limit = whole("limit", 100, MOST)
    return paged(
        queries.contacts_after(db(), whole("after", 0), limit + 1), limit, _contact, lambda c: c.id
    )


@endpoint(
    "post", "/v1/contacts/find", "Contacts with an address", takes=thing(["email"], email=TEXT)
)
def find_contacts(actor: Actor) -> Answer:
    return paged(
        queries.contacts_after(db(), 0, MOST, body()["email"]), MOST, _contact, lambda c: c.id
    )


@endpoint(
    "put",
    "/v1/contacts",
    "Add the contact with this address, or change the fields that are named",
    takes=_CONTACT,
    codes=(200, 201),
)
def put_contact(actor: Actor) -> Answer:
    data = body()
    email = values.text_or_none(data.get("email"))
    if not email:
        raise Invalid("A contact is found by “email”.", "email")
    known = queries.contact_of(db(), email)
    contact = people.save_contact(
        db(), actor, now(), _fields(data), known, f"API, {flask.g.api_key.name}", settings().country
    )
    _take_consent(contact, data)
    labels.take_tags(actor, contact, data)
    return flask.jsonify(_contact(contact)), 200 if known else 201


def _fields(data: Json) -> Json:
    """What posted JSON says of a contact's fields."""
    return {name: value for name, value in data.items() if name not in ("consent", "tags")}


def _take_consent(contact: Contact, data: Json) -> None:
    """Writes down what `data` says of consent, if anything. Raises Invalid."""
    consent = data.get("consent")
    if consent is None:
        return
    if not consent["how"].strip():
        raise Invalid("consent needs “how”: the evidence, in words.", "consent")
    topics = {t.key: t.id for t in queries.topics(db())}
    channel, topic = consent.get("channel", "email"), consent.get("topic")
    if topic and topic not in topics:
        raise Invalid(Wording("There is no topic “%(topic)s”.", topic=topic), "consent.topic")
    people.set_consent(
        db(),
        now(),
        contact.id,
        topics[topic] if topic else 0,
        consent["agreed"],
        consent["how"][:300],
        channel,
    )


@endpoint(
    "put",
    "/v1/contacts/<int:ident>",
    "Change the fields that are named of one contact, also their address",
    takes={**_CONTACT, "required": []},
)
def change_contact(actor: Actor, ident: int) -> Answer:
    data, contact = body(), queries.contact(db(), ident)
    people.save_contact(db(), actor, now(), _fields(data), contact, home=settings().country)
    _take_consent(contact, data)
    labels.take_tags(actor, contact, data)
    return flask.jsonify(_contact(contact))


@endpoint(
    "post",
    "/v1/contacts/<int:ident>/merge",
    "Merge two contacts: “gone” becomes part of this one. It can be undone on its page for 30 days",
    takes=thing(
        ["gone"],
        gone={"type": "integer"},
        take={"type": "array", "items": TEXT, "description": "fields that come from “gone”"},
    ),
)
def merge_contacts(actor: Actor, ident: int) -> Answer:
    data = body()
    merge(db(), actor, now(), ident, data["gone"], set(data.get("take", [])))
    return flask.jsonify(_contact(queries.contact(db(), ident)))


@endpoint("get", "/v1/contacts/<int:ident>", "One contact, with fields and consent")
def get_contact(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(_contact(queries.contact(db(), ident)))


@endpoint("get", "/v1/contacts/<int:ident>/everything", "Everything that is kept of one contact")
def export_contact(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(everything(db(), ident))


@endpoint(
    "delete",
    "/v1/contacts/<int:ident>",
    "Erase a contact for good, leaving the sums of past sends intact",
)
def erase_contact(actor: Actor, ident: int) -> Answer:
    erase(db(), actor, now(), ident)
    return flask.jsonify(erased=ident)


def _contact(contact: Contact) -> Json:
    standard = {name: getattr(contact, name) for name in ("email", *people.TEXT_COLUMNS)}
    return {
        "id": contact.id,
        **standard,
        "company_id": contact.company_id,
        **contact.attributes,
        "consent": [
            {"channel": c.channel, "topic": c.topic, "agreed": c.agreed, "how": c.how}
            for c in queries.consent_of(db(), contact.id)
        ],
        "tags": labels.of_contact(contact),
        "scores": kept_points(db(), contact.id),
    }


@endpoint("get", "/v1/companies", "Companies by number, page by page", query=PAGED)
def list_companies(actor: Actor) -> Answer:
    limit = whole("limit", 100, MOST)
    rows = company_queries.after(db(), whole("after", 0), limit + 1)
    return paged(rows, limit, _company, lambda c: c.id)


@endpoint(
    "put",
    "/v1/companies",
    "Add the company of this name, or change its own fields",
    takes={
        **thing(["name"], name=TEXT),
        "additionalProperties": {"description": "Own fields, by key"},
    },
)
def put_company(actor: Actor) -> Answer:
    data = body()
    name = values.text_or_none(data.get("name"))
    if not name:
        raise Invalid("A company is found by “name”.", "name")
    return flask.jsonify(
        _company(
            people.save_company(
                db(), actor, now(), name, {k: v for k, v in data.items() if k != "name"}
            )
        )
    )


def _company(company: Company) -> Json:
    return {"id": company.id, "name": company.name, **company.attributes}


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
