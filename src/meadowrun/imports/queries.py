"""Typed reads of imports."""

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.imports.models import Import, ImportRefusal


def recent(session: orm.Session, most: int = 100) -> list[Import]:
    """The imports begun last, the latest first."""
    return list(session.scalars(sa.select(Import).order_by(Import.id.desc()).limit(most)))


def refusals(
    session: orm.Session,
    import_id: int,
    most: int | None = None,
    after: int = 0,
    taken: bool = False,
) -> list[ImportRefusal]:
    """What an import refused, by row of its file: all after one, or `most` of these. With `taken`,
    the rows that were taken without cells that could not be read."""
    return list(
        session.scalars(
            sa.select(ImportRefusal)
            .where(
                ImportRefusal.import_id == import_id,
                ImportRefusal.row > after,
                ImportRefusal.taken.is_(taken),
            )
            .order_by(ImportRefusal.row)
            .limit(most)
        )
    )
