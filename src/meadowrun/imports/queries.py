"""Typed reads of imports."""

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.imports.models import Import, ImportRefusal


def recent(session: orm.Session, most: int = 100) -> list[Import]:
    """The imports begun last, the latest first."""
    return list(session.scalars(sa.select(Import).order_by(Import.id.desc()).limit(most)))


def refusals(session: orm.Session, import_id: int, most: int | None = None) -> list[ImportRefusal]:
    """What an import refused, by row of its file: all, or the first `most`."""
    return list(session.scalars(sa.select(ImportRefusal).where(ImportRefusal.import_id == import_id).order_by(ImportRefusal.row).limit(most)))
