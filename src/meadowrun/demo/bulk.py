"""Putting many rows into tables fast: COPY, and indexes built once afterwards instead of kept up
row by row."""

import contextlib
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Database, driver

#: Characters that mean something in COPY's text format.
_SPECIAL = str.maketrans({"\\": "\\\\", "\t": " ", "\n": " "})


def cell(value: Any) -> str:
    """A value in COPY's text format."""
    if value is None:
        return "\\N"
    if isinstance(value, str):
        return value.translate(_SPECIAL)
    if isinstance(value, bool):
        return "t" if value else "f"
    return str(value)


class Rows:
    """Rows for COPY into "table (columns)", sent off in blocks, so that a million of them need
    little memory."""

    def __init__(self, session: orm.Session, into: str, block: int = 100_000):
        self._session, self._into, self._block = session, into, block
        self._lines: list[str] = []

    def add(self, *values: Any) -> None:
        self._lines.append("\t".join(map(cell, values)))
        if len(self._lines) >= self._block:
            self.send()

    def send(self) -> None:
        """Stores what has been collected; to be called once more at the end."""
        if self._lines:
            copy(self._session, self._into, "\n".join(self._lines) + "\n")
            self._lines = []


def copy(session: orm.Session, into: str, text: str) -> None:
    """COPY of lines in text format into "table (columns)", in the session's transaction."""
    with driver(session).cursor() as cursor, cursor.copy(f"COPY {into} FROM STDIN") as to:
        to.write(text)


def trusted(session: orm.Session) -> None:
    """Looks up no foreign keys in the rest of this transaction: the world made them itself, in
    order."""
    session.execute(sa.text("SET LOCAL session_replication_role = replica"))


@contextlib.contextmanager
def indexes_later(database: Database, *tables: str) -> Iterator[None]:
    """Drops the plain indexes of these tables and builds them again at the end: a tenth of the time
    for millions of rows.

    Keys and unique indexes stay: they are rules, not only speed.
    """
    with database.session() as session:
        found = session.execute(
            sa.text(
                "SELECT i.indexname, i.indexdef FROM pg_indexes i JOIN pg_class k ON k.relname = "
                "i.indexname JOIN pg_index x "
                "ON x.indexrelid = k.oid WHERE i.tablename = ANY(:tables) AND NOT x.indisunique"
            ),
            {"tables": list(tables)},
        ).all()
        for name, _ in found:
            session.execute(sa.text(f"DROP INDEX {name}"))
    yield
    with database.session() as session:
        session.execute(sa.text("SET LOCAL maintenance_work_mem = '512MB'"))
        for _, definition in found:
            session.execute(sa.text(definition.replace(" ON ONLY ", " ON ")))
