"""Verbs about people. Explicit session, actor and now; never commit, never render."""

import datetime as dt
import functools
import re
import secrets
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base import audit, clock
from meadowrun.base.audit import Actor
from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import values
from meadowrun.core.audience.fields import TYPES
from meadowrun.core.language import Wording
from meadowrun.core.wording import fold, free_name
from meadowrun.people.models import (
    Company,
    Consent,
    ConsentChange,
    Contact,
    Field,
    StoredFile,
    Topic,
)
from meadowrun.people.reader_language import PARTS, spoken

#: Serialises what finds a person by address and makes one where there is none.
_PEOPLE_LOCK = 7203420
TEXT_COLUMNS = ("first_name", "last_name", "phone", "town", "language", "timezone", "reference")


def search_keys(first: str | None, last: str | None, email: str | None) -> tuple[str, str]:
    """(name_key, search_key) of a contact."""
    name = fold(f"{last or ''} {first or ''}") or fold(email or "")
    return name or "~", fold(f"{first or ''} {last or ''} {email or ''}")


def lock_people(session: orm.Session) -> None:
    """Held to the end of the transaction by everything that matches people by address before adding
    them."""
    session.execute(sa.text("SELECT pg_advisory_xact_lock(:key)"), {"key": _PEOPLE_LOCK})


def save_contact(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    given: Mapping[str, Any],
    contact: Contact | None = None,
    source: str = "by hand",
    home: str = "",
) -> Contact:
    """Adds a contact or changes one; only the fields named in `given` are touched. A phone number
    that does not name its country is read as one of `home`, the organisation's; without that it is
    refused.

    Raises Invalid naming the field. Correcting an address lifts what a bounce of the old one had
    set.
    """
    clean = _clean(given, home)
    own = _own_values(session, "contact", given)
    if contact is None and not any(
        clean.get(n) for n in ("email", "first_name", "last_name", "reference")
    ):
        raise Invalid("Give at least a name or an address.", "email")
    lock_people(session)
    if clean.get("email"):
        _refuse_taken(session, clean["email"], contact)
    is_new = contact is None
    if contact is None:
        contact = _new_contact(now, source)
        session.add(contact)
    before = {name: getattr(contact, name) for name in clean} | contact.attributes
    for name, value in clean.items():
        setattr(contact, name, value)
    if "email" in clean:
        _set_address(contact, clean["email"])
    if own:
        contact.attributes = {
            k: v for k, v in {**contact.attributes, **own}.items() if v is not None
        }
    if "company" in given:
        company = values.text_or_none(given["company"])
        contact.company_id = company_by_name(session, company, now).id if company else None
    contact.name_key, contact.search_key = search_keys(
        contact.first_name, contact.last_name, contact.email
    )
    contact.updated_at = now
    session.flush()
    audit.record(
        session,
        actor,
        now,
        "added" if is_new else "changed",
        "contact",
        contact.id,
        full_name(contact),
        **audit.from_to(before, {**clean, **own}),
    )
    return contact


def _new_contact(now: dt.datetime, source: str) -> Contact:
    return Contact(
        attributes={},
        created_at=now,
        updated_at=now,
        source=source,
        search_key="",
        name_key="~",
        email_usable=False,
    )


def _clean(given: Mapping[str, Any], home: str) -> dict[str, Any]:
    """What of `given` has a column of its own, checked. Raises Invalid naming the field."""
    clean: dict[str, Any] = {}
    for name, value in given.items():
        if name in TEXT_COLUMNS or name == "email":
            clean[name] = values.text_or_none(value)
    if clean.get("email") and (problem := values.email_problem(clean["email"])):
        raise Invalid(f"{problem}.", "email")
    for name, check in (
        ("timezone", values.timezone),
        ("phone", functools.partial(values.phone, region=home)),
    ):
        if clean.get(name):
            try:
                clean[name] = check(clean[name])
            except values.ValueProblem as problem:
                raise Invalid(f"{problem}.", name) from None
    return clean


def _refuse_taken(session: orm.Session, email: str, contact: Contact | None) -> None:
    """Raises Conflict where an address is another contact's."""
    key = values.email_key(email)
    other = session.scalar(sa.select(Contact).where(Contact.email_key == key).limit(1))
    if other is not None and other is not contact:
        raise Conflict(
            Wording(
                "%(email)s already belongs to %(full_name)s. Open that contact instead.",
                email=email,
                full_name=full_name(other),
            )
        )


def _own_values(session: orm.Session, owner: str, given: Mapping[str, Any]) -> dict[str, Any]:
    """The own fields among `given`, by key, in their type. Raises Invalid naming the field."""
    own: dict[str, Any] = {}
    for field in session.scalars(sa.select(Field).where(Field.owner == owner)):
        if field.key in given:
            try:
                own[field.key] = values.typed(field.type, given[field.key], tuple(field.options))
            except values.ValueProblem as problem:
                raise Invalid(f"{field.label}: {problem}.", field.key) from None
    return own


def _set_address(contact: Contact, address: str | None) -> None:
    key = values.email_key(address) if address else None
    if key != contact.email_key:
        contact.bounced_at, contact.soft_bounces, contact.soft_since = None, 0, None
    contact.email_key, contact.email_usable = key, key is not None


def full_name(contact: Contact) -> str:
    name = " ".join(n for n in (contact.first_name, contact.last_name) if n)
    return name or contact.email or f"(no name, {contact.id})"


def company_by_name(session: orm.Session, name: str, now: dt.datetime) -> Company:
    """The company of that name, made where there is none."""
    session.execute(
        insert(Company)
        .values(name=name, name_key=fold(name), attributes={}, created_at=now)
        .on_conflict_do_nothing()
    )
    return session.scalars(sa.select(Company).where(Company.name_key == fold(name))).one()


def save_company(
    session: orm.Session, actor: Actor, now: dt.datetime, name: str, given: Mapping[str, Any]
) -> Company:
    """Adds the company of this name, or changes the own fields that are named. Raises Invalid
    naming the field."""
    company = company_by_name(session, name, now)
    own = {**company.attributes, **_own_values(session, "company", given)}
    company.attributes = {k: v for k, v in own.items() if v is not None}
    session.flush()
    audit.record(session, actor, now, "saved", "company", company.id, company.name)
    return company


def rename_company(session: orm.Session, actor: Actor, company: Company, name: str) -> None:
    """Gives a company another name. Raises Invalid, and Conflict where another has it: those can be
    merged."""
    name = values.text_or_none(name) or ""
    if not name:
        raise Invalid("Give the company a name.", "name")
    other = session.scalar(
        sa.select(Company).where(Company.name_key == fold(name), Company.id != company.id)
    )
    if other is not None:
        raise Conflict(
            Wording(
                "There is a company “%(name)s” already. Merge the two instead.", name=other.name
            )
        )
    was = company.name
    company.name, company.name_key = name, fold(name)
    session.flush()
    audit.record(
        session, actor, clock.now(session), "renamed", "company", company.id, name, was=was
    )


def merge_companies(session: orm.Session, actor: Actor, gone: Company, kept: Company) -> int:
    """Moves everyone of one company to another, fills its blank own fields, and deletes the first.
    Returns how many moved.

    Raises Conflict naming the fields in which both hold different values, so that nothing is lost
    unseen.
    """
    if gone.id == kept.id:
        raise Invalid("Choose another company to merge it into.", "into")
    differ = sorted(
        k for k, v in gone.attributes.items() if k in kept.attributes and kept.attributes[k] != v
    )
    if differ:
        raise Conflict(
            Wording(
                "They differ in %(fields)s. Make these equal, or blank in one, first.",
                fields=", ".join(k.replace("_", " ") for k in differ),
            )
        )
    moved = rows_changed(
        session.execute(
            sa.update(Contact).where(Contact.company_id == gone.id).values(company_id=kept.id)
        )
    )
    kept.attributes = {**gone.attributes, **kept.attributes}
    audit.record(
        session,
        actor,
        clock.now(session),
        "merged the company",
        "company",
        kept.id,
        kept.name,
        gone=gone.name,
        moved=moved,
    )
    session.delete(gone)
    session.flush()
    return int(moved)


def set_consent(
    session: orm.Session,
    now: dt.datetime,
    contact_id: int,
    topic_id: int,
    agreed: bool,
    how: str,
    channel: str = "email",
) -> bool:
    """Writes down a yes or a no; returns False when nothing changed. `how` is the evidence, in
    words."""
    current = session.get(Consent, (contact_id, channel, topic_id))
    if current is not None and current.agreed == agreed:
        return False
    statement = insert(Consent).values(
        contact_id=contact_id, channel=channel, topic_id=topic_id, agreed=agreed, at=now, how=how
    )
    session.execute(
        statement.on_conflict_do_update(
            index_elements=["contact_id", "channel", "topic_id"],
            set_={"agreed": agreed, "at": now, "how": how},
        )
    )
    session.add(
        ConsentChange(
            contact_id=contact_id,
            channel=channel,
            topic_id=topic_id,
            agreed=agreed,
            at=now,
            how=how,
        )
    )
    session.flush()
    if current is not None:
        session.refresh(current)
    return True


def add_field(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    owner: str,
    label: str,
    kind: str,
    options: list[str] | None = None,
    meaning: str = "",
    filled_later: bool = False,
) -> Field:
    """Adds an own field. Its key follows from its label and never changes. Raises Invalid, also for
    a choice without choices, where these are not `filled_later` from what a file holds."""
    label = " ".join(label.split())
    key = re.sub(r"[^a-z0-9]+", "_", fold(label)).strip("_")[:40]
    if not key or not key[0].isalpha():
        raise Invalid("Give the field a name that begins with a letter.", "label")
    if kind not in TYPES:
        raise Invalid("Choose what sort of value the field holds.", "type")
    if owner not in ("contact", "company"):
        raise Invalid("A field belongs to contacts or to companies.", "owner")
    if key in (*TEXT_COLUMNS, "email", "company", "name", "id", "tags", "consent"):
        raise Invalid(Wording("“%(label)s” is a standard field already.", label=label), "label")
    if session.scalar(sa.select(Field).where(Field.owner == owner, Field.key == key)):
        raise Conflict(Wording("There is a field called “%(label)s” already.", label=label))
    choices = (
        [o for o in (" ".join(x.split()) for x in options or []) if o]
        if kind in ("choice", "choices")
        else []
    )
    if kind in ("choice", "choices") and not choices and not filled_later:
        raise Invalid("Name what there is to choose from, separated by commas.", "options")
    field = Field(
        owner=owner,
        key=key,
        label=label,
        type=kind,
        options=list(dict.fromkeys(choices)),
        meaning=meaning,
        created_at=now,
    )
    session.add(field)
    session.flush()
    audit.record(session, actor, now, "added the field", "field", field.id, label, type=kind)
    return field


#: Bytes of all files together.
MOST_STORED = 20 * 10**9


def store_file(
    session: orm.Session,
    now: dt.datetime,
    name: str,
    media_type: str,
    content: bytes,
    width: int | None = None,
    height: int | None = None,
) -> StoredFile:
    """Keeps a file. Its public address holds a part that cannot be guessed. Raises Invalid where
    the store is full."""
    stored = session.scalar(sa.select(sa.func.coalesce(sa.func.sum(StoredFile.size), 0))) or 0
    if stored + len(content) > MOST_STORED:
        raise Invalid(
            Wording(
                "The store of files is full: it holds %(value)s GB. Remove some first.",
                value=MOST_STORED // 10**9,
            ),
            "file",
        )
    made = StoredFile(
        name=name[:200] or "file",
        media_type=media_type,
        size=len(content),
        width=width,
        height=height,
        handle=secrets.token_urlsafe(12),
        content=content,
        created_at=now,
    )
    session.add(made)
    session.flush()
    return made


def _written(by_language: Mapping[str, Mapping[str, str]]) -> dict[str, dict[str, str]]:
    """What was written of a topic in other languages, without what was left blank."""
    found: dict[str, dict[str, str]] = {}
    for code in spoken()[1:]:
        texts = {part: " ".join(by_language.get(code, {}).get(part, "").split()) for part in PARTS}
        if any(texts.values()):
            found[code] = {part: text for part, text in texts.items() if text}
    return found


def save_topic(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    about: str,
    topic: Topic | None = None,
    often: str = "",
    by_language: Mapping[str, Mapping[str, str]] | None = None,
) -> Topic:
    """Adds something a contact can agree to get, or renames it; its key stays as it was.
    `by_language` has its name, about and often in other languages; None leaves them as they are.
    Raises Invalid or Conflict."""
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the topic the name that readers see.", "topic")
    known = session.scalars(sa.select(Topic)).all()
    key = re.sub(r"[^a-z0-9]+", "_", fold(name)).strip("_")[:40]
    # A name in other letters has none that a key could be made of.
    taken = {one.key.replace("_", " ") for one in known}
    key = key or free_name("topic", taken).replace(" ", "_")
    if any(t is not topic and (t.key == key or fold(t.name) == fold(name)) for t in known):
        raise Conflict(Wording("There is a topic called “%(name)s” already.", name=name))
    did = "changed the topic" if topic else "added the topic"
    topic = topic or Topic(key=key)
    topic.name, topic.about = name, " ".join(about.split())
    topic.often = " ".join(often.split())
    if by_language is not None:
        topic.by_language = _written(by_language)
    session.add(topic)
    session.flush()
    audit.record(session, actor, now, did, "topic", topic.id, name)
    return topic
