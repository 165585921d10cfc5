"""The API's endpoints about contacts and companies."""

import flask

from meadowrun.api import (
    labels,
)
from meadowrun.api.door import (
    MOST,
    PAGED,
    TEXT,
    Json,
    endpoint,
    paged,
    thing,
    whole,
)
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core import values
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.language import Wording
from meadowrun.people import actions as people
from meadowrun.people import company_queries, queries
from meadowrun.people.duplicates import merge
from meadowrun.people.models import Company, Contact
from meadowrun.people.wholly import erase, everything
from meadowrun.scores.queries import kept_points
from meadowrun.shell.request import Answer, body, db, now, settings

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
