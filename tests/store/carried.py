"""A database as it was at an older revision, brought to today's state."""

import contextlib
import uuid

import psycopg
import sqlalchemy as sa

from meadowrun.base.db import Database
from meadowrun.base.schema import migrate


@contextlib.contextmanager
def carried_from(cluster_url, revision, statements, values):
    """The database of today after statements with bind values at a revision; it goes afterwards."""
    name = f"t_{uuid.uuid4().hex[:12]}"
    with psycopg.connect(f"{cluster_url}/postgres", autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
    database = Database(f"{cluster_url}/{name}")
    migrate(database, revision)
    with database.session() as session:
        for statement in statements:
            text = statement.replace('": ', '"\\: ').replace("::", r"\:\:")
            session.execute(sa.text(text), {k: v for k, v in values.items() if f":{k}" in text})
    migrate(database)
    yield database
    database.close()
    with psycopg.connect(f"{cluster_url}/postgres", autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")
