"""Reading messages, and the values that fill them in."""

from collections.abc import Collection, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import NotFound
from meadowrun.core.audience.fields import Dictionary
from meadowrun.messages.models import Draft, Edition, Message
from meadowrun.people.models import Contact


def message(session: orm.Session, message_id: int) -> Message:
    found = session.get(Message, message_id)
    if found is None:
        raise NotFound("This message does not exist any more.")
    return found


def messages(session: orm.Session) -> list[Message]:
    return list(session.scalars(sa.select(Message).order_by(Message.changed_at.desc(), Message.id.desc())))


def drafts(session: orm.Session, message_id: int) -> list[Draft]:
    return list(session.scalars(sa.select(Draft).where(Draft.message_id == message_id).order_by(Draft.number.desc())))


def edition(session: orm.Session, edition_id: int) -> Edition:
    found = session.get(Edition, edition_id)
    if found is None:
        raise NotFound("This edition does not exist.")
    return found


def editions(session: orm.Session, message_id: int) -> list[Edition]:
    return list(session.scalars(sa.select(Edition).where(Edition.message_id == message_id)
                                .order_by(Edition.number.desc())))


def known_refs(words: Dictionary) -> dict[str, str]:
    """Every fill-in that exists for people, with its label: contact.town, company.kind."""
    return {ref if ref.startswith("company.") else f"contact.{ref}": spec.label for ref, spec in words.fields.items()}


def fill_sql(refs: Collection[str], words: Dictionary) -> str:
    """An SQL expression over `c` (contacts) and `k` (companies) that yields the named values as one jsonb object.

    Refs that do not exist are left out: the message then names an unknown field, which is refused before sending.
    """
    known = known_refs(words)
    pairs = []
    for ref in sorted(refs):
        if ref.startswith("fact.") or ref not in known:
            continue
        root, _, key = ref.partition(".")
        spec = words.fields[ref if root == "company" else key]
        table = "k" if root == "company" else "c"
        # Keys are our own slugs (letters, digits, underscores), so they stand safely in quotes.
        value = f"{table}.{spec.column}" if spec.column else f"{table}.attributes->'{spec.key}'"
        pairs.append(f"'{ref}', {value}")
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
    counts = []
    for ref in wanted:
        root, _, key = ref.partition(".")
        spec = words.fields[ref if root == "company" else key]
        table = "k" if root == "company" else "c"
        value = f"{table}.{spec.column}" if spec.column else f"{table}.attributes->>'{spec.key}'"
        counts.append(f"count(*) FILTER (WHERE coalesce({value}::text, '') = '')")
    row = session.execute(sa.text(
        f"SELECT {', '.join(counts)} FROM contacts c LEFT JOIN companies k ON k.id = c.company_id {where}"),
        {"ids": list(ids)} if ids is not None else {}).one()
    return dict(zip(wanted, row, strict=True))


def example_people(session: orm.Session, near: int | None, search: str = "", most: int = 8) -> list[Contact]:
    """People to read a message as: those a search finds, else a handful from `near` on."""
    from meadowrun.people.queries import contacts_page
    if search:
        return [row[0] for row in contacts_page(session, search).rows[:most]]
    query = sa.select(Contact).order_by(Contact.id).limit(most)
    return list(session.scalars(query.where(Contact.id >= near) if near else query))


def neighbour(session: orm.Session, contact_id: int, ids: Sequence[int] | None, forward: bool) -> int | None:
    """The next or previous person, by number, of a set or of everyone."""
    compare, order = (Contact.id > contact_id, Contact.id.asc()) if forward else \
        (Contact.id < contact_id, Contact.id.desc())
    query = sa.select(Contact.id).where(compare).order_by(order).limit(1)
    if ids is not None:
        query = query.where(Contact.id.in_(ids))
    return session.scalar(query)


