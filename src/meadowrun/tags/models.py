"""Tags, and the contacts that bear them. Campaigns, segments, messages and lists hold the numbers
of theirs themselves."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Tag(Base):
    __tablename__ = "tags"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    #: steps parted by “/”, as core/tags.py writes them
    path: orm.Mapped[str] = orm.mapped_column(unique=True)
    meaning: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]


class ContactTag(Base):
    __tablename__ = "contact_tags"
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True
    )
    tag_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("tags.id", ondelete="CASCADE"), primary_key=True, index=True
    )
