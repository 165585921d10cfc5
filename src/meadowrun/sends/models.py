"""Sends, and one delivery for each person of an audience."""

import datetime as dt
import uuid
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base
from meadowrun.core.guardrails.verdict import OUTCOMES


class Send(Base):
    __tablename__ = "sends"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    campaign_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("campaigns.id"), index=True)
    name: orm.Mapped[str]
    #: draft, planned, taking (settling the audience), running, paused, done, stopped
    state: orm.Mapped[str]
    #: grows with each change of the sheet, so that two authors never overwrite each other
    version: orm.Mapped[int] = orm.mapped_column(server_default="1")
    #: {"in": [{"segment": id} | {"list": id}], "out": [...]}; an empty "in" means nobody was named yet
    audience: orm.Mapped[dict[str, Any]]
    message_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("messages.id"))
    #: which state of the message it gives people: “approved” (the newest draft while nothing is), or the “newest” draft
    takes: orm.Mapped[str] = orm.mapped_column(server_default="approved")
    edition_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("editions.id"))
    #: the campaign's facts as they were when it was started: what was sent stays as it was
    facts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    sender_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("senders.id"))
    #: the topic it belongs to: people who said no to it on its channel are left alone. None: all of the channel
    topic_id: orm.Mapped[int | None] = orm.mapped_column(sa.ForeignKey("topics.id"))
    #: who may get it, one of the verdict's RULES
    consent_rule: orm.Mapped[str] = orm.mapped_column(server_default="agreed")
    #: the most people it may reach; empty: everybody who may get it
    ceiling: orm.Mapped[int | None]
    #: what happens above it, one of CEILING_RULES: so many are picked by chance, or nothing goes
    ceiling_rule: orm.Mapped[str] = orm.mapped_column(server_default="some")
    #: who is kept back to compare with: {}, {"percent": 10.0}, {"segment": id} or {"list": id}
    held: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: the moment it goes, empty: as soon as it is started
    leaves_at: orm.Mapped[dt.datetime | None]
    #: the zone in which that moment was named
    zone: orm.Mapped[str]
    #: what counts as success: an event kind's key, within so many days of the mail
    success_event: orm.Mapped[str | None]
    success_days: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="7")
    #: how many people the snapshot took; set with them in one transaction
    audience_size: orm.Mapped[int | None]
    #: when the snapshot was taken; every delivery of the send carries the same moment
    taken_at: orm.Mapped[dt.datetime | None]
    #: once true, the database refuses to add or remove deliveries of this send
    sealed: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: when a worker last did something for it, by the database's own clock: a send that stands still shows it
    moved_at: orm.Mapped[dt.datetime | None]
    #: somebody of it may still be handed over, or is in doubt: the sweep looks at it, whatever its state
    open: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    finished_at: orm.Mapped[dt.datetime | None]
    #: why a start failed, for the sheet to show
    problem: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    started_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    __table_args__ = (sa.Index("ix_sends_due", "leaves_at", postgresql_where=sa.text("state = 'planned'")),)


class Delivery(Base):
    """One person of a send's audience, under exactly one outcome. Partitioned by month of the snapshot."""

    __tablename__ = "deliveries"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    send_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    #: the send's taken_at: one value a send, so that the key stays unique across partitions
    taken_at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    chunk: orm.Mapped[int]
    outcome: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint("outcome IN (" + ", ".join(f"'{o}'" for o in OUTCOMES) + ")", name="outcome"))
    #: the address it went to, as it was then
    address: orm.Mapped[str | None]
    #: when it was handed over
    at: orm.Mapped[dt.datetime | None]
    #: what the mail server said, or what held it back, in detail
    note: orm.Mapped[str | None]
    #: the values filled in, so that the exact mail can be shown again
    filled: orm.Mapped[dict[str, Any] | None]
    #: the same address is in this audience under an earlier record
    repeated: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: of the group that is kept back, settled with the snapshot
    held: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: tries so far, for addresses that ask to come again later
    tries: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    #: for a deferred one: not before; for one in doubt: when the gateway is asked again, empty when only a person can tell
    not_before: orm.Mapped[dt.datetime | None]
    #: the token of the worker that has it, and when that was, by the database's own clock
    claim: orm.Mapped[uuid.UUID | None]
    claimed_at: orm.Mapped[dt.datetime | None]
    #: how often the gateway was asked about a doubt and did not say
    asked: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    __table_args__ = (sa.Index("ix_deliveries_send", "send_id", "outcome", "chunk"),
                      {"postgresql_partition_by": "RANGE (taken_at)"})
