"""The JSON API, with keys. Its description (OpenAPI 3.1) is at /api/openapi.json."""

from typing import Any

import flask
import sqlalchemy as sa

from meadowrun.base.audit import Actor
from meadowrun.base.clock import machine_now
from meadowrun.base.errors import Invalid, NotAllowed
from meadowrun.core import values
from meadowrun.people import actions as people
from meadowrun.people import queries
from meadowrun.people.models import Contact
from meadowrun.shell.request import body, db, now, public, settings
from meadowrun.tracking import actions
from meadowrun.tracking.models import ApiKey

pages = flask.Blueprint("api", __name__, url_prefix="/api")


def _key() -> ApiKey:
    """The live secret key of this request. Raises NotAllowed."""
    given = flask.request.headers.get("Authorization", "")
    key = actions.key_of(db(), given.removeprefix("Bearer ").strip(), "secret") if given.startswith("Bearer ") else None
    if key is None:
        raise NotAllowed("Send a live key: Authorization: Bearer key_… An administrator makes one under “Website script "
                         "and API keys”.")
    key.last_used_at = machine_now()
    return key


@pages.post("/v1/events")
@public
def events() -> object:
    """Up to 1,000 events at once; one whose id was taken before is not stored again."""
    key = _key()
    incoming = actions.read_events(body().get("events"), now())
    taken = actions.take_events(db(), now(), f"key:{key.id}", incoming)
    return flask.jsonify(stored=taken.stored, known_before=taken.known_before, newcomers=taken.newcomers)


@pages.put("/v1/contacts")
@public
def put_contact() -> object:
    """Adds the contact with this address, or changes the fields that are named."""
    key = _key()
    data = body()
    email = values.text_or_none(data.get("email"))
    if not email:
        raise Invalid("A contact is found by “email”.", "email")
    known = db().scalar(_by_email(email))
    fields = {k: v for k, v in data.items() if k != "consent"}
    contact = people.save_contact(db(), Actor(None, f"API key “{key.name}”"), now(), fields, known, f"API, {key.name}")
    consent = data.get("consent")
    if consent is not None:
        if not isinstance(consent, dict) or not isinstance(consent.get("agreed"), bool) or not consent.get("how"):
            raise Invalid("consent needs “agreed” (true or false) and “how” (the evidence, in words).", "consent")
        topics = {t.key: t.id for t in queries.topics(db())}
        if consent.get("topic") and consent["topic"] not in topics:
            raise Invalid(f"There is no topic “{consent['topic']}”.", "consent.topic")
        people.set_consent(db(), now(), contact.id, topics.get(consent.get("topic"), 0), consent["agreed"],
                           str(consent["how"])[:300])
    return flask.jsonify(_contact(contact)), 200 if known else 201


def _by_email(email: str) -> Any:
    return sa.select(Contact).where(Contact.email_key == values.email_key(email)).order_by(Contact.id).limit(1)


@pages.get("/v1/contacts/<int:ident>")
@public
def get_contact(ident: int) -> object:
    _key()
    return flask.jsonify(_contact(queries.contact(db(), ident)))


def _contact(contact: Contact) -> dict[str, Any]:
    standard = {name: getattr(contact, name) for name in ("email", *people.TEXT_COLUMNS)}
    return {"id": contact.id, **standard, **contact.attributes,
            "consent": [{"topic": c.topic, "agreed": c.agreed, "how": c.how} for c in
                        queries.consent_of(db(), contact.id)]}


@pages.get("/openapi.json")
@public
def openapi() -> object:
    problem = {"type": "object", "properties": {"error": {"type": "string"}, "where": {"type": ["string", "null"]}}}
    refusals = {str(code): {"description": text, "content": {"application/json": {"schema": problem}}}
                for code, text in ((403, "No live key"), (422, "Something in the body cannot be taken; “where” names it"))}
    event = {"type": "object", "required": ["event"], "properties": {
        "event": {"type": "string", "pattern": "^[a-z][a-z0-9_]{0,59}$", "description": "What happened: ticket_bought"},
        "contact": {"type": "integer", "description": "The contact’s number"},
        "email": {"type": "string", "description": "or their address; an unknown one becomes a contact without consent"},
        "at": {"type": "string", "format": "date-time", "description": "When, with its zone; now if left out"},
        "id": {"type": "string", "maxLength": 200, "description": "Your id of it: the same id is stored once"},
        "details": {"type": "object", "description": "Typed details: {\"amount\": 24.0}"}}}

    def body_of(schema: dict[str, Any]) -> dict[str, Any]:
        return {"required": True, "content": {"application/json": {"schema": schema}}}

    def says(text: str, properties: dict[str, Any]) -> dict[str, Any]:
        return {"description": text, "content": {"application/json": {"schema": {
            "type": "object", "properties": properties}}}}

    number = {"type": "integer"}
    contact = {"type": "object", "required": ["email"], "properties": {
        "email": {"type": "string"}, **{n: {"type": ["string", "null"]} for n in people.TEXT_COLUMNS},
        "consent": {"type": "object", "required": ["agreed", "how"], "properties": {
            "agreed": {"type": "boolean"}, "how": {"type": "string"}, "topic": {"type": "string"}}}},
        "additionalProperties": {"description": "Own fields, by key"}}
    return flask.jsonify({
        "openapi": "3.1.0", "info": {"title": "Meadowrun", "version": "1"}, "servers": [{"url": settings().public_url}],
        "components": {"securitySchemes": {"key": {"type": "http", "scheme": "bearer"}}}, "security": [{"key": []}],
        "paths": {
            "/api/v1/events": {"post": {
                "summary": "Record events", "requestBody": body_of({"type": "object", "required": ["events"], "properties": {
                    "events": {"type": "array", "minItems": 1, "maxItems": actions.MOST_EVENTS, "items": event}}}),
                "responses": {"200": says("What became of them", {"stored": number, "known_before": number,
                                                                  "newcomers": number}), **refusals}}},
            "/api/v1/contacts": {"put": {
                "summary": "Add or change the contact with this address", "requestBody": body_of(contact),
                "responses": {"200": says("Changed", {"id": number}), "201": says("Added", {"id": number}), **refusals}}},
            "/api/v1/contacts/{id}": {"get": {
                "summary": "One contact", "parameters": [{"name": "id", "in": "path", "required": True, "schema": number}],
                "responses": {"200": says("The contact", {"id": number}), **refusals,
                              "404": {"description": "No such contact"}}}}}})


WITHOUT_CSRF = (events, put_contact)
