"""What comes back: events, reactions to mail, and the keys that may bring them in."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class EventKind(Base):
    """A kind of event and the words it is spoken of in."""

    __tablename__ = "event_kinds"
    id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, sa.Identity(), primary_key=True)
    #: what the API and definitions call it: ticket_bought
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: past tense, following "who": "bought a ticket"
    did: orm.Mapped[str]
    #: infinitive, following "did not": "buy a ticket"
    do: orm.Mapped[str]
    #: detail key → {"label", "type"}
    details: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: whether the script on a website may tell of it: what a visitor's browser sends can be made up
    by_website: orm.Mapped[bool] = orm.mapped_column(server_default=sa.true())
    #: offered nowhere any more; what uses it goes on
    retired: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    meaning: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: keys of kinds that were merged into this one: what comes in under them is of this kind
    aka: orm.Mapped[list[str]] = orm.mapped_column(server_default="{}")


class Event(Base):
    """Something a contact did. Partitioned by month of `at`; keyed by contact first."""

    __tablename__ = "events"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    kind_id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True)
    details: orm.Mapped[dict[str, Any] | None]
    #: no primary key in the database: two equal events in one instant are two events
    __table_args__ = (sa.Index("ix_events_kind", "kind_id", "contact_id", "at"),
                      sa.Index("ix_events_contact", "contact_id", "at"),
                      {"postgresql_partition_by": "RANGE (at)"})


class EventReceipt(Base):
    """The ids of events already taken, so that one sent twice counts once. Old ones may be forgotten."""

    __tablename__ = "event_receipts"
    #: the sender's key and the id they gave, in the order of bytes
    key: orm.Mapped[str] = orm.mapped_column(sa.Text(collation="C"), primary_key=True)
    #: on the machine's own clock: it only tells which are old
    at: orm.Mapped[dt.datetime] = orm.mapped_column(server_default=sa.func.now())


class Reaction(Base):
    """What a person did with a mail. Partitioned by month of `at`."""

    __tablename__ = "reactions"
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    at: orm.Mapped[dt.datetime] = orm.mapped_column(primary_key=True)
    send_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, primary_key=True)
    #: opened, clicked, unsubscribed, bounced, complained
    kind: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: number of the link in the edition, for clicks
    link: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: true when a program opened or clicked, not a person
    machine: orm.Mapped[bool]
    #: why we think so, or the words of a bounce
    note: orm.Mapped[str]
    __table_args__ = (sa.Index("ix_reactions_send", "send_id", "kind", "contact_id"),
                      sa.Index("ix_reactions_contact", "contact_id", "at"),
                      {"postgresql_partition_by": "RANGE (at)"})


#: What a key of the API may be allowed → in words
SCOPES = {"read": "look at people, segments and lists", "people": "add and change people, lists, tags, suppressions; import",
          "events": "record events", "segments": "write segments, partitions and scores",
          "fields": "change fields and kinds of event", "erase": "erase and merge people"}


class ApiKey(Base):
    __tablename__ = "api_keys"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str]
    #: SHA-256 of a secret key; a public site key is kept as it is
    key_hash: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: secret: may read and write by the API; site: may only record events of the visitor it belongs to
    kind: orm.Mapped[str]
    #: for site keys: the addresses of the websites that may use it
    origins: orm.Mapped[list[str]] = orm.mapped_column(server_default="{}")
    #: for secret keys: what they may do, of SCOPES
    may: orm.Mapped[list[str]] = orm.mapped_column(server_default="{read,people,events,segments,fields,erase}")
    #: when it stops working; None: never
    ends_at: orm.Mapped[dt.datetime | None]
    created_at: orm.Mapped[dt.datetime]
    last_used_at: orm.Mapped[dt.datetime | None]
    retired: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
