"""Who would read a message: what they lack, the longest value of what it fills in, and how many of
them can be reached."""

import datetime as dt
from collections.abc import Collection, Iterator, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core import wording
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import sms
from meadowrun.core.content.document import Json, texts
from meadowrun.core.content.fillins import used
from meadowrun.core.language import Wording
from meadowrun.messages.models import DataTable
from meadowrun.messages.queries import tables
from meadowrun.messages.values import known_refs, value_sql
from meadowrun.people.models import Contact
from meadowrun.segments.facts import facts_sql

#: A character outside the basic alphabet of text messages, as PostgreSQL's expressions say it.
_WIDE = "[^" + "".join(f"\\u{ord(c):04x}" for c in sorted(sms.GSM_7 | sms.GSM_7_EXTENDED)) + "]"


#: Of some people, how many have an address of a channel, and how many may be written to there.
REACH = """SELECT count(*) FILTER (WHERE has_address),
    count(*) FILTER (
        WHERE has_address AND address_usable AND NOT suppressed AND channel_consent)
FROM ({facts}) f {among}"""


def everyone(session: orm.Session) -> int:
    """How many contacts there are."""
    return session.execute(sa.select(sa.func.count()).select_from(Contact)).scalar_one()


def readers_by_value(session: orm.Session, ref: str, words: Dictionary) -> dict[str, int]:
    """How many people have each value of a field, the commonest 200."""
    rows = session.execute(
        sa.text(
            f"SELECT v, count(*) FROM (SELECT {value_sql(ref, words)} AS v FROM contacts c LEFT "
            "JOIN companies k ON k.id = c.company_id) x "
            "WHERE v IS NOT NULL GROUP BY v ORDER BY count(*) DESC LIMIT 200"
        )
    )
    return {str(value): count for value, count in rows}


def blank_tests(
    session: orm.Session, refs: Collection[str], words: Dictionary
) -> tuple[dict[str, str], dict[str, Any]]:
    """Whether each ref is blank for a contact, in SQL over `c` and their company `k`, and the
    values these tests bind. Refs that are no field and no table looked up by a field are left out.
    """
    tests = {r: f"coalesce({value_sql(r, words)}, '') = ''" for r in refs if r in known_refs(words)}
    values: dict[str, Any] = {}
    for table, column, ref in _of_tables(session, refs):
        if table.looked_up_by in known_refs(words):
            name = f"keys{len(values)}"
            # Keys are folded; of what folding does beyond small letters only this letter occurs in
            # names.
            tests[ref] = (
                f"NOT coalesce(lower(replace({value_sql(table.looked_up_by, words)}, 'ß', 'ss')) "
                f"= ANY(:{name}), FALSE)"
            )
            values[name] = [
                key for key, row in table.rows.items() if row.get(column) not in (None, "")
            ]
    return tests, values


def blanks(
    session: orm.Session, refs: Collection[str], words: Dictionary, ids: Sequence[int] | None
) -> dict[str, int]:
    """For how many people each ref is blank, among `ids` or everyone: fields, and tables looked up
    by a field."""
    tests, values = blank_tests(session, refs, words)
    if not tests:
        return {}
    row = session.execute(
        sa.text(
            f"SELECT {', '.join(f'count(*) FILTER (WHERE {test})' for test in tests.values())} "
            "FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
            f"{'' if ids is None else 'WHERE c.id = ANY(:ids)'}"
        ),
        values | ({} if ids is None else {"ids": list(ids)}),
    ).one()
    return dict(zip(tests, row, strict=True))


def dated(session: orm.Session, refs: Collection[str]) -> dict[str, str]:
    """What is known by the day, as ref → "2 days, the last 25 Nov 2026": on any other day it is
    blank for everyone."""
    found: dict[str, str] = {}
    for table, column, ref in _of_tables(session, refs):
        if table.looked_up_by == "today":
            days = sorted(
                key for key, row in table.rows.items() if row.get(column) not in (None, "")
            )
            several = wording.count_of(len(days), "day")
            found[ref] = (
                Wording("%(days)s, the last %(day)s", days=several, day=_day(days[-1]))
                if days
                else several
            )
    return found


def _day(text: str) -> str:
    """A key of a table as a day in words, where it is one."""
    try:
        return wording.day(dt.date.fromisoformat(text))
    except ValueError:
        return text


def _of_tables(session: orm.Session, refs: Collection[str]) -> Iterator[tuple[DataTable, str, str]]:
    """The tables that refs name, with the column and the ref."""
    named = {
        ref: ref.split(".", 2) for ref in refs if ref.count(".") >= 2 and ref.startswith("table.")
    }
    known = {table.key: table for table in tables(session)} if named else {}
    for ref, (_, key, column) in named.items():
        if key in known:
            yield known[key], column, ref


def telling_person(session: orm.Session, document: Json, words: Dictionary) -> Contact | None:
    """Somebody to read a message as who has a value for everything it fills in, else anybody with a
    name."""
    refs = sorted(
        {fill.ref for _, _, text in texts(document) for fill in used(text)}
        & known_refs(words).keys()
    )
    conditions = [f"coalesce({value_sql(ref, words)}, '') <> ''" for ref in refs]
    found = session.execute(
        sa.text(
            "SELECT c.id FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
            f"WHERE {' AND '.join(conditions) or 'c.first_name IS NOT NULL'} LIMIT 1"
        )
    ).scalar()
    if found is None:
        return session.scalar(
            sa.select(Contact).where(Contact.first_name.is_not(None)).order_by(Contact.id).limit(1)
        )
    return session.get(Contact, found)


def neighbour(
    session: orm.Session, contact_id: int, ids: Sequence[int] | None, forward: bool
) -> int | None:
    """The next or previous person, by number, of a set or of everyone."""
    compare, order = (
        (Contact.id > contact_id, Contact.id.asc())
        if forward
        else (Contact.id < contact_id, Contact.id.desc())
    )
    query = sa.select(Contact.id).where(compare).order_by(order).limit(1)
    if ids is not None:
        query = query.where(Contact.id.in_(ids))
    return session.scalar(query)


def longest(
    session: orm.Session, refs: Collection[str], words: Dictionary, ids: Sequence[int] | None
) -> dict[str, list[str]]:
    """For each field the longest value that it has among some people, or everyone, and the longest
    that needs the wide alphabet of text messages."""
    asked = sorted(set(refs) & known_refs(words).keys())
    if not asked:
        return {}
    columns = []
    for ref in asked:
        value = value_sql(ref, words)
        # The largest of length and value together is the longest value; in the plain order of
        # bytes.
        most = f"max(lpad(length({value})::text, 8, '0') || {value} COLLATE \"C\")"
        columns += [f"substr({most}, 9)", f"substr({most} FILTER (WHERE {value} ~ :wide), 9)"]
    row = session.execute(
        sa.text(
            f"SELECT {', '.join(columns)} FROM contacts c LEFT JOIN companies k ON k.id = "
            f"c.company_id {'' if ids is None else 'WHERE c.id = ANY(:ids)'}"
        ),
        {"wide": _WIDE} | ({} if ids is None else {"ids": list(ids)}),
    ).one()
    return {
        ref: [value for value in row[2 * place : 2 * place + 2] if value]
        for place, ref in enumerate(asked)
    }


def reach(session: orm.Session, channel: str, ids: Sequence[int] | None) -> tuple[int, int]:
    """How many of some people, or of everyone, have an address on a channel, and how many of these
    may be written to."""
    row = session.execute(
        sa.text(
            REACH.format(
                facts=facts_sql(None, channel=channel),
                among="" if ids is None else "WHERE f.id = ANY(:ids)",
            )
        ),
        {} if ids is None else {"ids": list(ids)},
    ).one()
    return row[0], row[1]
