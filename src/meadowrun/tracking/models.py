"""What comes back: events."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Event(Base):
    """Something a contact did. Partitioned by month of `at`; keyed by contact first."""

    __tablename__ = "events"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    kind_id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True)
    details: orm.Mapped[dict[str, Any] | None]
    #: no primary key in the database: two equal events in one instant are two events
    __table_args__ = (
        sa.Index("ix_events_kind", "kind_id", "contact_id", "at"),
        sa.Index("ix_events_contact", "contact_id", "at"),
        {"postgresql_partition_by": "RANGE (at)"},
    )


class EventReceipt(Base):
    """The ids of events already taken, so that one sent twice counts once. Old ones may be
    forgotten."""

    __tablename__ = "event_receipts"
    #: the sender's key and the id they gave, in the order of bytes
    key: orm.Mapped[str] = orm.mapped_column(sa.Text(collation="C"), primary_key=True)
    #: on the machine's own clock: it only tells which are old
    at: orm.Mapped[dt.datetime] = orm.mapped_column(server_default=sa.func.now())
