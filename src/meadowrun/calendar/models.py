"""Addresses by which somebody's own calendar program reads ours."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class CalendarFeed(Base):
    __tablename__ = "calendar_feeds"
    user_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="CASCADE"), primary_key=True, autoincrement=False
    )
    #: the key in the address, hashed: who reads the database cannot read the calendar by it
    token_hash: orm.Mapped[str] = orm.mapped_column(unique=True)
    made_at: orm.Mapped[dt.datetime]
    #: when a program last asked for it
    read_at: orm.Mapped[dt.datetime | None]
