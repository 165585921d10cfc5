"""Imports: the file, how its columns are matched, the outcome, and every refused row."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Import(Base):
    __tablename__ = "imports"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    file_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("files.id"))
    file_name: orm.Mapped[str]
    #: matching, checking, checked, importing, done, failed
    state: orm.Mapped[str]
    #: encoding, separator, sheet: how the file was read
    reading: orm.Mapped[dict[str, Any]]
    columns: orm.Mapped[list[str]]
    #: the first rows, for the preview
    sample: orm.Mapped[list[Any]]
    #: what sort of field each column would be, guessed from its first rows
    types: orm.Mapped[list[str]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: column matching and choices; see core/people_file.py: Plan
    plan: orm.Mapped[dict[str, Any]]
    #: counts by outcome, of the dry run and of the real one
    dry_counts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    counts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    rows_total: orm.Mapped[int | None]
    rows_done: orm.Mapped[int] = orm.mapped_column(server_default="0")
    #: what went wrong with the whole file, and what to do
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")
    list_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("lists.id", ondelete="SET NULL")
    )
    created_at: orm.Mapped[dt.datetime]
    created_by: orm.Mapped[str]
    finished_at: orm.Mapped[dt.datetime | None]


class ImportRefusal(Base):
    __tablename__ = "import_refusals"
    import_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("imports.id", ondelete="CASCADE"), primary_key=True
    )
    #: line number in the file as a person counts it: the header is 1
    row: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    column: orm.Mapped[str]
    reason: orm.Mapped[str]
    #: the person was taken all the same, without the cells that the reason names
    taken: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: the row's cells as they were read
    cells: orm.Mapped[list[Any]]
