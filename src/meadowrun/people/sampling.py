"""A steady sample of people: everything about some of them, in tables of their own that are called
as the real ones are.

A statement that is run with SEARCH_PATH reads the sample without being changed. Nothing is ever
sent from here, and nothing is exact: see core/audience/estimate.py.
"""

import datetime as dt

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.large import is_large
from meadowrun.core.audience.estimate import Sample

#: About so many people are in it: their share is known to less than one point in a hundred.
PEOPLE = 20_000
#: What comes first is looked at first; what the sample does not hold, like companies, is read where
#: it is.
SEARCH_PATH = "SELECT set_config('search_path', 'sample, public', true)"
#: Tables of which the rows of these people are taken, and the column that says whose they are.
TABLES = {
    "contacts": "id",
    "events": "contact_id",
    "reactions": "contact_id",
    "deliveries": "contact_id",
    "consents": "contact_id",
    "contact_scores": "contact_id",
    "contact_tags": "contact_id",
    "list_members": "contact_id",
    "push_devices": "contact_id",
}
#: What conditions look for in each.
_INDEXES = {
    "contacts": ("(id)", "(company_id)"),
    "events": ("(kind_id, at)", "(contact_id, at)"),
    "reactions": ("(contact_id)",),
    "deliveries": ("(contact_id)",),
    "consents": ("(contact_id)",),
    "list_members": ("(list_id)",),
    "contact_tags": ("(tag_id)",),
}
#: The same people each time: chosen by their numbers, scattered. Half of the numbers are negative.
_CHOSEN = (
    "SELECT c.id FROM public.contacts c WHERE hashint8extended(c.id, 24) & 1048575 < "
    ":below ORDER BY c.id"
)
_MADE = "SELECT m.at, m.people, m.sampled FROM sample.made m"
_THERE = (
    "SELECT count(*) FROM pg_class WHERE relname = 'contacts' AND relnamespace = "
    "'sample'::regnamespace"
)


def make(session: orm.Session, now: dt.datetime, people: int = PEOPLE) -> None:
    """Fills the sample anew with everything about the same people; the old one is read until this
    transaction is over."""
    everyone = session.execute(sa.text("SELECT count(*) FROM public.contacts")).scalar_one()
    below = min(1_048_576, round(1_048_576 * people / max(everyone, 1)))
    session.execute(
        sa.text(f"CREATE TEMPORARY TABLE sampled ON COMMIT DROP AS {_CHOSEN}"), {"below": below}
    )
    session.execute(sa.text("ANALYZE sampled"))
    sampled = session.execute(sa.text("SELECT count(*) FROM sampled")).scalar_one()
    for table, column in TABLES.items():
        new = f"sample.new_{table}"
        session.execute(sa.text(f"DROP TABLE IF EXISTS {new}"))
        session.execute(
            sa.text(
                f"CREATE UNLOGGED TABLE {new} AS SELECT t.* FROM sampled s JOIN public.{table} t "
                f"ON t.{column} = s.id"
            )
        )
        for columns in _INDEXES.get(table, ()):
            session.execute(sa.text(f"CREATE INDEX ON {new} {columns}"))
        session.execute(sa.text(f"ANALYZE {new}"))
    # Only now does anybody who reads the sample wait, for a moment.
    for table in TABLES:
        session.execute(sa.text(f"DROP TABLE IF EXISTS sample.{table}"))
        session.execute(sa.text(f"ALTER TABLE sample.new_{table} RENAME TO {table}"))
    session.execute(sa.text("DELETE FROM sample.made"))
    session.execute(
        sa.text("INSERT INTO sample.made VALUES (:now, :people, :sampled)"),
        {"now": now, "people": everyone, "sampled": sampled},
    )


def made(session: orm.Session) -> tuple[dt.datetime, Sample] | None:
    """When the sample was filled last and what it says; None where there is none, as in a small
    world."""
    row = session.execute(sa.text(_MADE)).one_or_none() if is_large(session) else None
    return (row.at, Sample(row.sampled, row.people)) if row and row.sampled else None


def numbers(session: orm.Session) -> BitMap:
    """The numbers of the contacts in the sample, which must be there."""
    return BitMap(session.scalars(sa.text("SELECT c.id FROM sample.contacts c")).all())


def forget(session: orm.Session, contact_id: int) -> None:
    """Takes a person out of the sample, as when they are erased."""
    if session.execute(sa.text(_THERE)).scalar_one():
        for table, column in TABLES.items():
            session.execute(
                sa.text(f"DELETE FROM sample.{table} WHERE {column} = :id"), {"id": contact_id}
            )
