"""Messages, every draft of them, the editions people get, and the links in those."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Message(Base):
    __tablename__ = "messages"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    channel: orm.Mapped[str] = orm.mapped_column(server_default="email")
    #: number of the newest draft
    draft: orm.Mapped[int]
    #: the newest draft's content; see core/content/document.py
    document: orm.Mapped[dict[str, Any]]
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]


class Draft(Base):
    """One saved state of a message. Saves of one person within ten minutes share a draft."""

    __tablename__ = "drafts"
    message_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("messages.id", ondelete="CASCADE"),
                                                    primary_key=True)
    number: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    document: orm.Mapped[dict[str, Any]]
    #: what changed against the draft before, in words
    changes: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]


class Edition(Base):
    """What people get. Never changes once made."""

    __tablename__ = "editions"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    message_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("messages.id"))
    number: orm.Mapped[int]
    document: orm.Mapped[dict[str, Any]]
    #: templates made once: subject, html, text; see core/content/compiled.py
    compiled: orm.Mapped[dict[str, Any]]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]
    __table_args__ = (sa.UniqueConstraint("message_id", "number"),)
