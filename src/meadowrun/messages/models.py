"""Messages, every draft of them, the editions people get, and the links in those."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONB

from meadowrun.base.db import Base


class Message(Base):
    __tablename__ = "messages"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    channel: orm.Mapped[str] = orm.mapped_column(server_default="email")
    #: number of the newest draft
    draft: orm.Mapped[int]
    #: grows with every save, so that nobody, in two windows or as two people, overwrites what they
    #: have not seen
    version: orm.Mapped[int] = orm.mapped_column(server_default="1")
    #: the newest draft's content; see core/content/document.py
    document: orm.Mapped[dict[str, Any]]
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]
    #: offered where a new message is begun
    starting_point: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: numbers of its own tags, beside those of its campaign
    tags: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")


class Draft(Base):
    """A state of a message. One person's saves share a draft for some minutes, unless it is named
    or was asked about."""

    __tablename__ = "drafts"
    message_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("messages.id", ondelete="CASCADE"), primary_key=True
    )
    number: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    document: orm.Mapped[dict[str, Any]]
    #: what changed against the draft before, in words
    changes: orm.Mapped[str]
    #: when it was begun
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]
    #: what its author calls it; empty: nothing
    name: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: somebody was asked about it: what is written now becomes the next draft
    frozen: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())


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
    #: who let it go out; empty where nobody was asked
    approved_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: when that was; it may have been sent before
    approved_at: orm.Mapped[dt.datetime | None]
    __table_args__ = (sa.UniqueConstraint("message_id", "number"),)


class SharedPart(Base):
    """Finished lines stored once and used in many messages. With an “only if” line it is an
    adaptive block."""

    __tablename__ = "shared_parts"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: number of the newest version
    version: orm.Mapped[int]
    lines: orm.Mapped[list[Any]]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]

    @property
    def adaptive(self) -> bool:
        return any(line["type"] == "only" for line in self.lines)


class SharedPartVersion(Base):
    """What a shared part held. Never changes: a message keeps the version it was given until its
    author takes a newer one."""

    __tablename__ = "shared_part_versions"
    part_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("shared_parts.id", ondelete="CASCADE"), primary_key=True
    )
    number: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    lines: orm.Mapped[list[Any]]
    changes: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]


class HouseStyle(Base):
    """How the organisation's messages look and speak, kept once. One row."""

    __tablename__ = "house_style"
    id: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    #: settings of a new document
    looks: orm.Mapped[dict[str, Any]]
    #: [[from hour, words], …] by the reader's clock, in order of hours
    greetings: orm.Mapped[list[Any]]
    agreed_words: orm.Mapped[list[Any]]
    avoided_words: orm.Mapped[list[Any]]
    #: pages of the organisation elsewhere, which icons lead to: [{"icon", "name", "href"}, …]
    pages: orm.Mapped[list[Any]] = orm.mapped_column(server_default=sa.text("'[]'"))
    #: only approved editions may be sent
    review: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: addresses that a proof may go to at once, separated by commas
    proof_group: orm.Mapped[str] = orm.mapped_column(server_default="")


class Feed(Base):
    """JSON looked up by HTTP at the moment of sending."""

    __tablename__ = "feeds"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: with fill-ins it is asked for each person, else once for all
    url: orm.Mapped[str]
    #: part of the answer to use, like “forecast.tonight”; empty for all of it
    part: orm.Mapped[str] = orm.mapped_column(server_default="")
    timeout_ms: orm.Mapped[int]
    #: how long an answer may be used again
    keep_seconds: orm.Mapped[int]
    #: an answer to read messages with before they go
    sample: orm.Mapped[Any | None] = orm.mapped_column(JSONB(none_as_null=True))
    #: fallback, wait, or leave_out
    when_down: orm.Mapped[str]
    fallback: orm.Mapped[Any | None] = orm.mapped_column(JSONB(none_as_null=True))


class DataTable(Base):
    """Reference data from a CSV, looked up by one column: prices by tier, tonight's programme by
    date."""

    __tablename__ = "data_tables"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    key_column: orm.Mapped[str]
    #: whose value is looked up: contact.membership, or “today” on the reader's clock
    looked_up_by: orm.Mapped[str]
    columns: orm.Mapped[list[Any]]
    #: key, folded to small letters → {column: value}
    rows: orm.Mapped[dict[str, Any]]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]


class Condition(Base):
    """What words inside a text ask, as lines of a definition. Never changes: its key is made of
    what it says."""

    __tablename__ = "conditions"
    key: orm.Mapped[str] = orm.mapped_column(sa.Text(collation="C"), primary_key=True)
    lines: orm.Mapped[list[Any]]


class Comment(Base):
    """What a colleague says about a line of a message."""

    __tablename__ = "comments"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    message_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("messages.id", ondelete="CASCADE"), index=True
    )
    draft: orm.Mapped[int]
    #: the line's id; empty for the whole message
    line: orm.Mapped[str]
    text: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]
    done_by: orm.Mapped[str | None]


class Proof(Base):
    """A message really handed over to a colleague, as somebody would read it. A colleague is no
    contact, so it is no delivery, and nothing that is counted knows of it."""

    __tablename__ = "proofs"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    message_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("messages.id", ondelete="CASCADE"), index=True
    )
    #: the message's version that it shows
    version: orm.Mapped[int]
    #: what its gateway knows it by
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: the number of the contact as whom it is read; 0 for nobody in particular
    read_as: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    sent_to: orm.Mapped[str]
    #: in_hand before it leaves, and for ever where what became of it was never heard
    outcome: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("outcome IN ('in_hand', 'delivered', 'refused')", name="outcome"),
    )
    #: what the gateway said
    note: orm.Mapped[str] = orm.mapped_column(server_default="")
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]


class Review(Base):
    """Somebody was asked to look at a draft."""

    __tablename__ = "reviews"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    message_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("messages.id", ondelete="CASCADE"), index=True
    )
    draft: orm.Mapped[int]
    #: the fingerprint of what was asked about; only that can be approved
    content: orm.Mapped[str] = orm.mapped_column(server_default="")
    reviewer_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("users.id"))
    asked_by: orm.Mapped[str]
    asked_at: orm.Mapped[dt.datetime]
    #: asked, approved, sent_back; overtaken when another draft was asked about
    state: orm.Mapped[str]
    note: orm.Mapped[str] = orm.mapped_column(server_default="")
    answered_at: orm.Mapped[dt.datetime | None]
