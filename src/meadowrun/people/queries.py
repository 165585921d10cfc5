"""Typed reads about people. Pages by key, never by offset, so that the millionth contact is as near
as the first."""

import dataclasses
import datetime as dt
import functools
from collections.abc import Callable, Collection
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import as_like, existing
from meadowrun.core import values
from meadowrun.core.audience.fields import DetailSpec, Dictionary, EventSpec, FieldSpec
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.core.wording import fold
from meadowrun.people.models import (
    Company,
    Consent,
    ConsentChange,
    Contact,
    EventKind,
    Field,
    ListMember,
    Merge,
    PeopleList,
    StoredFile,
    Suppression,
    Topic,
)
from meadowrun.people.reader_language import ENGLISH, name_of

PAGE = 50
SORTS = {
    "name": (Contact.name_key, False),
    "email": (Contact.email_key, False),
    "added": (Contact.created_at, True),
}


#: The links of a message's newest edition.
_LINKS = """
SELECT compiled->'links' FROM editions WHERE message_id = :id ORDER BY number DESC LIMIT 1
"""


def dictionary(session: orm.Session) -> Dictionary:
    """All fields and event kinds that conditions and fill-ins can be about."""
    own = [
        FieldSpec(
            f.key if f.owner == "contact" else f"company.{f.key}",
            f.label,
            f.type,
            tuple(f.options),
            meaning=f.meaning,
            retired=f.retired,
        )
        for f in session.scalars(sa.select(Field).order_by(Field.label))
    ]
    kinds = session.scalars(sa.select(EventKind).order_by(EventKind.did)).all()
    events = [
        EventSpec(
            k.id,
            k.key,
            k.did,
            k.do,
            tuple(DetailSpec(key, d["label"], d["type"]) for key, d in k.details.items()),
            k.retired,
        )
        for k in kinds
    ]
    merged = {other: k.key for k in kinds for other in k.aka}
    named: dict[str, dict[int, str]] = {}
    for kind, number, name in session.execute(sa.text(_NAMED)):
        named.setdefault(kind, {})[number] = name

    def asked(statement: str) -> Callable[[int], Any]:
        """Asks for something by its number only when a line names it, and once."""
        return functools.cache(
            lambda number: session.execute(sa.text(statement), {"id": number}).scalar()
        )

    labels = asked(_LINKS)
    return Dictionary.of(
        own,
        events,
        merged=merged,
        named=named,
        segment=asked("SELECT definition FROM segments WHERE id = :id"),
        grouping=asked("SELECT groups FROM groupings WHERE id = :id"),
        links=lambda message: {x["number"]: x["label"] for x in labels(message) or []},
    )


#: Everything with a name that lines speak of by number.
_NAMED = (
    " UNION ALL ".join(
        f"SELECT '{kind}', id, name FROM {table}"
        for kind, table in (
            ("message", "messages"),
            ("campaign", "campaigns"),
            ("send", "sends"),
            ("list", "lists"),
            ("topic", "topics"),
            ("segment", "segments"),
            ("grouping", "groupings"),
            ("score", "scores"),
        )
    )
    + " UNION ALL SELECT 'tag', id, path FROM tags ORDER BY 1, 3"
)


@dataclasses.dataclass(frozen=True)
class Page:
    """`after` and `before` are cursors to the neighbouring pages, None at the ends."""

    rows: list[Any]
    after: str | None
    before: str | None


def living(session: orm.Session, contact_id: int) -> Contact | None:
    """The contact of a number; of one that was merged into another, that other: what was sent
    before still names the first."""
    found = session.get(Contact, contact_id)
    if found is None:
        kept = session.scalar(
            sa.select(Merge.kept_id)
            .where(Merge.gone_id == contact_id)
            .order_by(Merge.id.desc())
            .limit(1)
        )
        found = session.get(Contact, kept) if kept is not None else None
    return found


def contacts_page(
    session: orm.Session,
    search: str = "",
    sort: str = "name",
    cursor: str | None = None,
    tags: Collection[int] | None = None,
) -> Page:
    """One page of contacts, those with any of some tags where these are given. `cursor` comes from
    a former Page; an unreadable one starts from the beginning."""
    column, descending = SORTS.get(sort, SORTS["name"])
    query = sa.select(Contact, Company.name.label("company")).outerjoin(
        Company, Company.id == Contact.company_id
    )
    if search.strip():
        query = _narrowed(session, query, search)
    if tags is not None:
        query = query.where(Contact.id.in_(_tagged(tags)))
    if sort == "email":
        query = query.where(Contact.email_key.is_not(None))
    backwards, place = False, None
    if cursor:
        backwards, place = _read_cursor(session, cursor, column)
    down = descending != backwards
    if place is not None:
        compare = sa.tuple_(column, Contact.id)
        query = query.where(compare < sa.tuple_(*place) if down else compare > sa.tuple_(*place))
    order = (column.desc(), Contact.id.desc()) if down else (column.asc(), Contact.id.asc())
    rows = list(session.execute(query.order_by(*order).limit(PAGE + 1)).all())
    more = len(rows) > PAGE
    rows = rows[:PAGE]
    if backwards:
        rows.reverse()
    has_after = bool(rows) and (more or backwards)
    has_before = bool(rows) and (place is not None and not backwards or backwards and more)
    return Page(
        rows,
        f"a{rows[-1][0].id}" if has_after else None,
        f"b{rows[0][0].id}" if has_before else None,
    )


def _tagged(tags: Collection[int]) -> Any:
    return (
        sa.text("SELECT t.contact_id FROM contact_tags t WHERE t.tag_id = ANY(:tags)")
        .bindparams(tags=sorted(tags))
        .columns(sa.column("contact_id", sa.BigInteger))
    )


def _read_cursor(
    session: orm.Session, cursor: str, column: Any
) -> tuple[bool, tuple[Any, int] | None]:
    if not is_whole(cursor[1:]) or cursor[0] not in "ab":
        return False, None
    value = session.execute(sa.select(column).where(Contact.id == int(cursor[1:]))).scalar()
    return cursor[0] == "b", None if value is None else (value, int(cursor[1:]))


#: A search that more than this match is answered sooner by walking in order than by finding and
#: sorting them all.
COMMON = 20_000


def _narrowed(session: orm.Session, query: Any, search: str) -> Any:
    """Only those who match. The planner cannot know that a name stands all in one place of the
    order by name, and would walk half the table to it; so those found by the search index are found
    first."""
    _, common = count_contacts(session, search, COMMON)
    if common:
        return _searched(query, search)
    hits = _searched(sa.select(Contact.id), search).cte("hits").prefix_with("MATERIALIZED")
    return query.where(Contact.id.in_(sa.select(hits.c.id)))


def _searched(query: Any, search: str) -> Any:
    words = fold(search).split()
    for word in words:
        escaped = as_like(word)
        # Three letters make one trigram; shorter words can only use the name's beginning.
        pattern = f"%{escaped}%" if len(word) >= 3 else f"{escaped}%"
        query = query.where(
            (Contact.search_key if len(word) >= 3 else Contact.name_key).like(pattern)
        )
    return query


def count_contacts(
    session: orm.Session, search: str = "", most: int = 10_000, tags: Collection[int] | None = None
) -> tuple[int, bool]:
    """How many match, counted up to `most` when searching; True when there are more than that."""
    if tags is not None:
        found = sa.select(Contact.id).where(Contact.id.in_(_tagged(tags)))
        found = _searched(found, search) if search.strip() else found
        return session.execute(
            sa.select(sa.func.count()).select_from(found.subquery())
        ).scalar_one(), False
    if not search.strip():
        return session.execute(sa.select(sa.func.count()).select_from(Contact)).scalar_one(), False
    limited = _searched(sa.select(Contact.id), search).limit(most + 1).subquery()
    count = session.execute(sa.select(sa.func.count()).select_from(limited)).scalar_one()
    return min(count, most), count > most


def contact_ids(
    session: orm.Session, search: str = "", tags: Collection[int] | None = None
) -> list[int]:
    """The numbers of all contacts that match, those with any of some tags where these are given,
    by last name."""
    query = sa.select(Contact.id)
    if search.strip():
        query = _searched(query, search)
    if tags is not None:
        query = query.where(Contact.id.in_(_tagged(tags)))
    column, _ = SORTS["name"]
    return list(session.scalars(query.order_by(column, Contact.id)))


def contact(session: orm.Session, contact_id: int) -> Contact:
    return existing(session, Contact, contact_id, "contact")


#: The phone number of a contact `c` without what people write between its digits, as suppressions
#: and gateways have it.
NUMBER = "regexp_replace(c.phone, '[^0-9+]', '', 'g')"


@dataclasses.dataclass(frozen=True)
class ConsentState:
    """What a contact said to a channel (topic 0) or a topic there; `topic` is what that is
    called."""

    channel: str
    topic: str
    topic_id: int
    agreed: bool | None
    at: dt.datetime | None
    how: str

    @property
    def key(self) -> str:
        return f"{self.channel}:{self.topic_id}"


def consent_of(
    session: orm.Session, contact_id: int, every: bool = False, code: str = ENGLISH
) -> list[ConsentState]:
    """What a contact agreed to: email as a whole first, then each topic of it, then the other
    channels. Topics of those only where something was said of them, unless it is to be every one.
    `code` is the language that topics are named in.
    """
    rows = {
        (c.channel, c.topic_id): c
        for c in session.scalars(sa.select(Consent).where(Consent.contact_id == contact_id))
    }
    known = topics(session)
    called = {topic.id: name_of(topic, code) for topic in known}
    names = [("email", 0, Wording("All email")), *(("email", *one) for one in called.items())]
    for channel, name in CHANNEL_WORDS.items():
        if channel != "email":
            names += [
                (channel, 0, Wording(f"{name[0].upper()}{name[1:]}")),
                *(
                    (channel, ident, Wording("%(topic)s in %(channel)s", topic=topic, channel=name))
                    for ident, topic in called.items()
                    if every or (channel, ident) in rows
                ),
            ]
    return [
        ConsentState(
            channel,
            name,
            ident,
            row.agreed if row else None,
            row.at if row else None,
            row.how if row else "",
        )
        for channel, ident, name in names
        for row in (rows.get((channel, ident)),)
    ]


def consent_history(session: orm.Session, contact_id: int, most: int = 30) -> list[ConsentChange]:
    return list(
        session.scalars(
            sa.select(ConsentChange)
            .where(ConsentChange.contact_id == contact_id)
            .order_by(ConsentChange.at.desc(), ConsentChange.id.desc())
            .limit(most)
        )
    )


def topics(session: orm.Session) -> list[Topic]:
    return list(session.scalars(sa.select(Topic).order_by(Topic.name)))


def fields(session: orm.Session, owner: str) -> list[Field]:
    return list(
        session.scalars(
            sa.select(Field).where(Field.owner == owner).order_by(sa.func.lower(Field.label))
        )
    )


def segment_name(session: orm.Session, segment_id: int | None) -> str | None:
    """The name of the segment a list was frozen from; None when there is none any more."""
    return (
        session.execute(
            sa.text("SELECT name FROM segments WHERE id = :id"), {"id": segment_id}
        ).scalar()
        if segment_id
        else None
    )


def definitions_using(session: orm.Session, path: str) -> list[str]:
    """The segments, groupings, messages and shared parts with a line that a jsonpath finds, in
    words."""
    rows = session.execute(
        sa.text(
            "SELECT DISTINCT kind, name FROM definitions_in_use WHERE jsonb_path_exists(lines, "
            "CAST(:path AS jsonpath)) ORDER BY 1 DESC, 2"
        ),
        {"path": path},
    )
    return [f"{kind} “{name}”" for kind, name in rows]


def uses_of_list(session: orm.Session, list_id: int) -> list[str]:
    """What uses a list, in words: segments, groupings and messages with a line on it, and
    sends."""
    sends = session.scalars(
        sa.text(
            "SELECT name FROM sends WHERE jsonb_path_exists(jsonb_build_array(audience, control), "
            "CAST(:named AS jsonpath)) ORDER BY name"
        ),
        {"named": f"$.** ? (@.list == {int(list_id)})"},
    )
    line = f'@.kind == "list" && @.list == {int(list_id)}'
    step = f'@.kind == "change" && @.what == "list" && @.number == {int(list_id)}'
    return definitions_using(session, f"$.** ? ({line} || {step})") + [
        f"the send “{name}”" for name in sends
    ]


def suppression_of(session: orm.Session, address_key: str | None) -> Suppression | None:
    if not address_key:
        return None
    return session.get(Suppression, address_key) or session.get(
        Suppression, f"@{address_key.partition('@')[2]}"
    )


def lists(session: orm.Session) -> list[tuple[PeopleList, int]]:
    """Every list with its size, newest first."""
    size = sa.select(sa.func.count()).where(ListMember.list_id == PeopleList.id).scalar_subquery()
    return [
        (row[0], row[1])
        for row in session.execute(sa.select(PeopleList, size).order_by(PeopleList.taken_at.desc()))
    ]


def lists_of(session: orm.Session, contact_id: int) -> list[PeopleList]:
    return list(
        session.scalars(
            sa.select(PeopleList)
            .join(ListMember, ListMember.list_id == PeopleList.id)
            .where(ListMember.contact_id == contact_id)
            .order_by(PeopleList.name)
        )
    )


def common_values(session: orm.Session, spec: FieldSpec, most: int = 40) -> list[str]:
    """The commonest values of a text or choice field of contacts or companies, for pick lists."""
    table = "companies" if spec.owner == "company" else "contacts"
    expression = spec.column or "attributes->>:key"
    rows = session.execute(
        sa.text(
            f"SELECT v FROM (SELECT {expression} AS v FROM {table} LIMIT 200000) x WHERE v IS NOT "
            "NULL GROUP BY v ORDER BY count(*) DESC, v LIMIT :most"
        ),
        {"key": spec.key, "most": most},
    )
    return [row[0] for row in rows]


def file_weights(session: orm.Session, addresses: list[str]) -> dict[str, int]:
    """Bytes of the stored files at addresses like /f/<handle>."""
    handles = [a.removeprefix("/f/") for a in addresses if a.startswith("/f/")]
    return (
        {
            f"/f/{handle}": size
            for handle, size in session.execute(
                sa.select(StoredFile.handle, StoredFile.size).where(StoredFile.handle.in_(handles))
            )
        }
        if handles
        else {}
    )


def contacts_after(session: orm.Session, after: int, most: int, email: str = "") -> list[Contact]:
    """Contacts by number, or those of an address."""
    query = sa.select(Contact).where(Contact.id > after).order_by(Contact.id).limit(most)
    return list(
        session.scalars(
            query.where(Contact.email_key == values.email_key(email)) if email else query
        )
    )


def contact_of(session: orm.Session, email: str) -> Contact | None:
    """The first contact with an address."""
    return next(iter(contacts_after(session, 0, 1, email)), None)


def contacts_of(session: orm.Session, ids: Collection[int]) -> list[Contact]:
    """The contacts of some numbers, by number."""
    return list(session.scalars(sa.select(Contact).where(Contact.id.in_(ids)).order_by(Contact.id)))


def anybody(session: orm.Session) -> Contact | None:
    """The first contact with a name, to read something as."""
    return session.scalar(
        sa.select(Contact).where(Contact.first_name.is_not(None)).order_by(Contact.id).limit(1)
    )


def common_zones(session: orm.Session) -> list[str]:
    """The twelve time zones that most contacts name, of many."""
    return [
        row[0]
        for row in session.execute(
            sa.text(
                "SELECT timezone FROM (SELECT timezone FROM contacts WHERE timezone IS NOT NULL "
                "LIMIT 50000) x GROUP BY 1 ORDER BY count(*) DESC LIMIT 12"
            )
        )
    ]


def history_size(session: orm.Session, contact_id: int) -> tuple[int, int]:
    """How many events and how many deliveries a contact has."""
    row = session.execute(
        sa.text(
            "SELECT (SELECT count(*) FROM events WHERE contact_id = :id), (SELECT count(*) FROM "
            "deliveries WHERE contact_id = :id)"
        ),
        {"id": contact_id},
    ).one()
    return row[0], row[1]
