"""People as a file: who is in a list or a segment, in columns that an import knows again."""

import csv
import io
from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from meadowrun.base.db import Database
from meadowrun.core.audience.fields import STANDARD, Dictionary
from meadowrun.core.formulas import harmless
from meadowrun.people.columns import Column
from meadowrun.people.models import Company, Contact

#: people read at once
BATCH = 2000
_COMPANY, _TAGS = "company", "tags"
_SAID = {"email": "agreed to email", "sms": "agreed to text messages"}
_MORE = (
    "SELECT c.id, k.name, (SELECT jsonb_object_agg(s.channel, s.agreed) FROM consents s WHERE "
    "s.contact_id = c.id AND s.topic_id = 0), "
    "(SELECT array_agg(t.path ORDER BY t.path) FROM contact_tags a JOIN tags t ON t.id = "
    "a.tag_id WHERE a.contact_id = c.id) "
    "FROM contacts c LEFT JOIN companies k ON k.id = c.company_id WHERE c.id = ANY(:ids)"
)


def lines(database: Database, ids: Sequence[int], words: Dictionary) -> Iterator[str]:
    """The CSV (commas, RFC 4180) of these contacts, a heading first, in the order of the numbers
    given.

    Dates are YYYY-MM-DD, yes/no is yes or no, several choices are separated by semicolons. Where
    consent was never asked for, the cell is empty. Opens a session of its own, since a file may be
    read for longer than a request lives.
    """
    standard = [spec for spec in STANDARD if spec.owner == "contact"]
    own = [
        spec
        for spec in words.fields.values()
        if spec.column is None and spec.owner == "contact" and not spec.retired
    ]
    yield _line(
        [
            *(spec.label for spec in standard),
            _COMPANY,
            *(spec.label for spec in own),
            _TAGS,
            *_SAID.values(),
        ]
    )
    for start in range(0, len(ids), BATCH):
        some = list(ids[start : start + BATCH])
        with database.session() as session:
            found = {
                contact.id: contact
                for contact in session.scalars(sa.select(Contact).where(Contact.id.in_(some)))
            }
            more = {
                ident: (company, said or {}, tags or [])
                for ident, company, said, tags in session.execute(sa.text(_MORE), {"ids": some})
            }
        text = []
        for ident in some:
            if ident in found:
                contact, (company, said, tags) = found[ident], more[ident]
                text.append(
                    _line(
                        [
                            *(getattr(contact, spec.ref) for spec in standard),
                            company,
                            *(contact.attributes.get(spec.key) for spec in own),
                            tags,
                            *(said.get(channel) for channel in _SAID),
                        ]
                    )
                )
        yield "".join(text)


def seen(database: Database, ids: Sequence[int], columns: Sequence[Column]) -> Iterator[str]:
    """The CSV of these contacts as a table shows them: first and last name, and some columns."""
    names = [spec for spec in STANDARD if spec.ref in ("first_name", "last_name")]
    yield _line([*(spec.label for spec in names), *(one.label for one in columns)])
    for start in range(0, len(ids), BATCH):
        some = list(ids[start : start + BATCH])
        asked = (
            sa.select(Contact, Company.name)
            .outerjoin(Company, Company.id == Contact.company_id)
            .where(Contact.id.in_(some))
        )
        with database.session() as session:
            found = {row[0].id: (row[0], row[1]) for row in session.execute(asked)}
        yield "".join(
            _line(
                [
                    *(getattr(contact, spec.ref) for spec in names),
                    *(one.value(contact, company) for one in columns),
                ]
            )
            for contact, company in (found[ident] for ident in some if ident in found)
        )


def _line(cells: Sequence[Any]) -> str:
    out = io.StringIO()
    csv.writer(out).writerow([harmless(_cell(cell)) for cell in cells])
    return out.getvalue()


def _cell(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return "; ".join(map(str, value))
    return "" if value is None else str(value)
