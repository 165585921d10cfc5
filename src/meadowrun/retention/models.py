"""What an administrator has set."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Retention(Base):
    """How long one kind of data is kept; a kind without a row is kept as long as its rule says by
    itself."""

    __tablename__ = "retention"
    #: a key of rules.RULES, or “night”: when that was last gone through
    kind: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: 0: for ever
    months: orm.Mapped[int]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]
    #: when data of this kind was last deleted, and how many rows
    last_at: orm.Mapped[dt.datetime | None]
    last_count: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, server_default="0")
