"""Reading messages, and the values that fill them in."""

from collections.abc import Collection, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import found
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content.document import Json, texts
from meadowrun.core.content.fillins import used
from meadowrun.messages.models import Draft, Edition, Message
from meadowrun.people.models import Contact


def message(session: orm.Session, message_id: int) -> Message:
    return found(session, Message, message_id, "message")


def messages(session: orm.Session) -> list[Message]:
    return list(session.scalars(sa.select(Message).order_by(Message.changed_at.desc(), Message.id.desc())))


def drafts(session: orm.Session, message_id: int) -> list[Draft]:
    return list(session.scalars(sa.select(Draft).where(Draft.message_id == message_id).order_by(Draft.number.desc())))


def edition(session: orm.Session, edition_id: int) -> Edition:
    return found(session, Edition, edition_id, "edition")


def editions(session: orm.Session, message_id: int) -> list[Edition]:
    return list(session.scalars(sa.select(Edition).where(Edition.message_id == message_id)
                                .order_by(Edition.number.desc())))


def known_refs(words: Dictionary) -> dict[str, str]:
    """Every fill-in that exists for people, with its label: contact.town, company.kind."""
    return {ref if ref.startswith("company.") else f"contact.{ref}": spec.label for ref, spec in words.fields.items()}


def _value_sql(ref: str, words: Dictionary, as_text: bool = True) -> str:
    """The SQL expression of a known ref's value over `c` (contacts) and `k` (companies).

    Keys are our own slugs (letters, digits, underscores), so they stand safely in quotes.
    """
    root, _, key = ref.partition(".")
    spec = words.fields[ref if root == "company" else key]
    table = "k" if root == "company" else "c"
    return f"{table}.{spec.column}" if spec.column else f"{table}.attributes->{'>' if as_text else ''}'{spec.key}'"


def fill_sql(refs: Collection[str], words: Dictionary) -> str:
    """An SQL expression over `c` (contacts) and `k` (companies) that yields the named values as one jsonb object.

    Refs that do not exist are left out: the message then names an unknown field, which is refused before sending.
    """
    known = known_refs(words)
    pairs = []
    for ref in sorted(refs):
        if ref.startswith("fact.") or ref not in known:
            continue
        pairs.append(f"'{ref}', {_value_sql(ref, words, as_text=False)}")
    return f"jsonb_build_object({', '.join(pairs)})" if pairs else "'{}'::jsonb"


def fill_values(session: orm.Session, contact_ids: Sequence[int], refs: Collection[str],
                words: Dictionary) -> dict[int, dict[str, Any]]:
    """The values of `refs` for some contacts: {contact id: {"contact.town": …}}."""
    rows = session.execute(sa.text(
        f"SELECT c.id, {fill_sql(refs, words)} FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
        "WHERE c.id = ANY(:ids)"), {"ids": list(contact_ids)})
    return {row[0]: row[1] for row in rows}


def nested(flat: dict[str, Any], facts: dict[str, Any], token: str) -> dict[str, Any]:
    """Flat values as what templates see: contact, company and fact objects, and the delivery's token."""
    made: dict[str, Any] = {"contact": {}, "company": {}, "fact": facts, "token": token}
    for ref, value in flat.items():
        root, _, key = ref.partition(".")
        made[root][key] = value
    return made


def blanks(session: orm.Session, refs: Collection[str], words: Dictionary, ids: Sequence[int] | None) -> dict[str, int]:
    """For how many people each ref is blank, among `ids` or everyone."""
    known = known_refs(words)
    wanted = [r for r in sorted(refs) if r in known]
    if not wanted:
        return {}
    where = "WHERE c.id = ANY(:ids)" if ids is not None else ""
    counts = [f"count(*) FILTER (WHERE coalesce({_value_sql(ref, words)}, '') = '')" for ref in wanted]
    row = session.execute(sa.text(
        f"SELECT {', '.join(counts)} FROM contacts c LEFT JOIN companies k ON k.id = c.company_id {where}"),
        {"ids": list(ids)} if ids is not None else {}).one()
    return dict(zip(wanted, row, strict=True))


def telling_person(session: orm.Session, document: Json, words: Dictionary) -> Contact | None:
    """Somebody to read a message as who has a value for everything it fills in, else anybody with a name."""
    known = known_refs(words)
    refs = sorted({fill.ref for _, _, text in texts(document) for fill in used(text)} & known.keys())
    conditions = [f"coalesce({_value_sql(ref, words)}, '') <> ''" for ref in refs]
    found = session.execute(sa.text(
        "SELECT c.id FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
        f"WHERE {' AND '.join(conditions) or 'c.first_name IS NOT NULL'} LIMIT 1")).scalar()
    if found is None:
        return session.scalar(sa.select(Contact).where(Contact.first_name.is_not(None)).order_by(Contact.id).limit(1))
    return session.get(Contact, found)


def neighbour(session: orm.Session, contact_id: int, ids: Sequence[int] | None, forward: bool) -> int | None:
    """The next or previous person, by number, of a set or of everyone."""
    compare, order = (Contact.id > contact_id, Contact.id.asc()) if forward else \
        (Contact.id < contact_id, Contact.id.desc())
    query = sa.select(Contact.id).where(compare).order_by(order).limit(1)
    if ids is not None:
        query = query.where(Contact.id.in_(ids))
    return session.scalar(query)


