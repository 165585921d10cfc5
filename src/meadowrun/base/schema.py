"""Bringing the database to the state this version of the application needs."""

import datetime as dt
import pathlib

import alembic.command
import alembic.config
import alembic.runtime.migration
import alembic.script
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.db import Database, ensure_months

ROOT = pathlib.Path(__file__).resolve().parents[3]
MONTHS_BACK, MONTHS_AHEAD = 15, 4


def migrate(
    database: Database, to: str = "head", months: tuple[int, int] = (MONTHS_BACK, MONTHS_AHEAD)
) -> None:
    """Applies every migration that is missing, up to one of them where `to` names it, then makes
    the partitions of some months back from now and ahead."""
    config = alembic.config.Config(str(ROOT / "alembic.ini"))
    with database.engine.connect() as connection:
        # Two processes starting together must not migrate at once.
        connection.execute(sa.text("SELECT pg_advisory_lock(7203411)"))
        connection.commit()
        try:
            config.attributes["connection"] = connection
            alembic.command.upgrade(config, to)
            connection.commit()
        finally:
            connection.execute(sa.text("SELECT pg_advisory_unlock(7203411)"))
            connection.commit()
    make_partitions(database, months)


def make_partitions(
    database: Database, months: tuple[int, int] = (MONTHS_BACK, MONTHS_AHEAD)
) -> None:
    """Makes the partitions of some months back from now and ahead; what lies outside falls into the
    default one."""
    back, ahead = months
    with database.session() as session:
        today = clock.now(session).date()
        ensure_months(
            session,
            today - dt.timedelta(days=31 * back),
            today + dt.timedelta(days=31 * ahead),
        )


def is_behind(database: Database) -> bool:
    """Whether migrations are missing that this version needs."""
    config = alembic.config.Config(str(ROOT / "alembic.ini"))
    wanted = alembic.script.ScriptDirectory.from_config(config).get_heads()
    with database.engine.connect() as connection:
        context = alembic.runtime.migration.MigrationContext.configure(connection)
        return set(context.get_current_heads()) != set(wanted)
