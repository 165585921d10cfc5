"""Contacts, companies, their fields, what they agreed to, lists and suppressions."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base

BigId = sa.BigInteger


class Company(Base):
    __tablename__ = "companies"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(index=True)
    #: lower case without accents: what an import matches a company by
    name_key: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: own fields of companies, by field key
    attributes: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    created_at: orm.Mapped[dt.datetime]


class Contact(Base):
    __tablename__ = "contacts"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    #: as given; may be blank or unusable
    email: orm.Mapped[str | None]
    #: lower case, trimmed: what identifies a person in imports and events. Two records may share an
    #: address
    email_key: orm.Mapped[str | None]
    #: the organisation's own number for this person, where it has one
    reference: orm.Mapped[str | None] = orm.mapped_column(unique=True)
    #: false when the address cannot be written to (no at-sign, impossible domain)
    email_usable: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    #: the moment of a hard bounce; mail stops until the address is corrected
    bounced_at: orm.Mapped[dt.datetime | None]
    #: soft bounces in a row, without anything read there in between, and since when
    soft_bounces: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    soft_since: orm.Mapped[dt.datetime | None]
    #: how many messages a week they wish for at most; empty: as many as there are
    most_a_week: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: until when they wish for nothing but service messages; empty: they did not pause
    paused_until: orm.Mapped[dt.datetime | None]
    phone: orm.Mapped[str | None]
    first_name: orm.Mapped[str | None]
    last_name: orm.Mapped[str | None]
    company_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("companies.id", ondelete="SET NULL")
    )
    language: orm.Mapped[str | None]
    #: IANA name; blank means the organisation's
    timezone: orm.Mapped[str | None]
    town: orm.Mapped[str | None]
    #: own fields, by field key; dates as YYYY-MM-DD so that they compare as text
    attributes: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: names and address, lower case without accents: what search looks through
    search_key: orm.Mapped[str]
    #: last and first name, lower case without accents: what the table sorts by
    name_key: orm.Mapped[str]
    #: where the record first came from: an import's name, "by hand", "website"
    source: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]
    updated_at: orm.Mapped[dt.datetime]
    __table_args__ = (
        sa.Index("ix_contacts_email_key", "email_key", "id"),
        sa.Index("ix_contacts_name", "name_key", "id"),
        sa.Index("ix_contacts_created", "created_at", "id"),
        sa.Index("ix_contacts_company", "company_id"),
        sa.Index("ix_contacts_timezone", "timezone"),
        sa.Index(
            "ix_contacts_paused_until",
            "paused_until",
            postgresql_where=sa.text("paused_until IS NOT NULL"),
        ),
        sa.Index(
            "ix_contacts_most_a_week", "id", postgresql_where=sa.text("most_a_week IS NOT NULL")
        ),
        sa.Index("ix_contacts_phone", "phone", postgresql_where=sa.text("phone IS NOT NULL")),
        sa.Index(
            "ix_contacts_attributes",
            "attributes",
            postgresql_using="gin",
            postgresql_ops={"attributes": "jsonb_path_ops"},
        ),
        sa.Index(
            "ix_contacts_search",
            "search_key",
            postgresql_using="gin",
            postgresql_ops={"search_key": "gin_trgm_ops"},
        ),
    )


class Field(Base):
    """An own field of contacts or companies. Standard fields are not rows: they are in
    core/audience/fields.py."""

    __tablename__ = "fields"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    #: contact or company
    owner: orm.Mapped[str]
    #: short name used in definitions and fill-ins; never changes
    key: orm.Mapped[str]
    label: orm.Mapped[str]
    #: text, number, date, datetime, yes_no, choice, choices
    type: orm.Mapped[str]
    #: what may be chosen, for choice and choices
    options: orm.Mapped[list[str]] = orm.mapped_column(server_default="{}")
    meaning: orm.Mapped[str] = orm.mapped_column(server_default="")
    created_at: orm.Mapped[dt.datetime]
    #: offered nowhere any more; what uses it goes on
    retired: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())
    __table_args__ = (sa.UniqueConstraint("owner", "key"),)


class Merge(Base):
    """Two contacts made one, with what is needed to part them again."""

    __tablename__ = "merges"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    kept_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), index=True
    )
    gone_id: orm.Mapped[int] = orm.mapped_column(BigId)
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]
    #: both records as they were, and the rows that moved
    undo: orm.Mapped[dict[str, Any]]


class Topic(Base):
    __tablename__ = "topics"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    key: orm.Mapped[str] = orm.mapped_column(unique=True)
    name: orm.Mapped[str]
    about: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: how often something of it comes, in words for readers
    often: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: name, about and often in other languages, by the code of the language (ISO 639-1)
    by_language: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))


class Consent(Base):
    """What a contact agrees to now, for a channel: everything (topic 0) or one topic. No row: not
    asked."""

    __tablename__ = "consents"
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True
    )
    channel: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: 0 stands for the whole channel: a "no" there outweighs every topic
    topic_id: orm.Mapped[int] = orm.mapped_column(BigId, primary_key=True, autoincrement=False)
    agreed: orm.Mapped[bool]
    at: orm.Mapped[dt.datetime]
    #: how it was given or withdrawn, in words
    how: orm.Mapped[str]
    __table_args__ = (
        sa.Index("ix_consents_withdrawn", "at", postgresql_where=sa.text("NOT agreed")),
    )


class ConsentChange(Base):
    """The history behind Consent: never updated."""

    __tablename__ = "consent_changes"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), index=True
    )
    channel: orm.Mapped[str]
    topic_id: orm.Mapped[int] = orm.mapped_column(BigId)
    agreed: orm.Mapped[bool]
    at: orm.Mapped[dt.datetime]
    how: orm.Mapped[str]


class Suppression(Base):
    """An address ("a@b"), or a whole domain ("@b"), that is not written to, and why."""

    __tablename__ = "suppressions"
    address_key: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    reason: orm.Mapped[str]
    source: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
    #: None: for ever
    until: orm.Mapped[dt.datetime | None]


class PeopleList(Base):
    """A fixed set of people."""

    __tablename__ = "lists"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: where it came from, in words: "import of spring-fair.csv"
    source: orm.Mapped[str]
    taken_at: orm.Mapped[dt.datetime]
    #: the segment it was frozen from, so that it can be worked out again
    segment_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("segments.id", ondelete="SET NULL")
    )
    #: numbers of its tags
    tags: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")


class ListMember(Base):
    __tablename__ = "list_members"
    list_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("lists.id", ondelete="CASCADE"), primary_key=True
    )
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True, index=True
    )


class StoredFile(Base):
    """A file somebody gave us, kept in the database so that web and worker processes hold no
    state."""

    __tablename__ = "files"
    id: orm.Mapped[int] = orm.mapped_column(BigId, sa.Identity(), primary_key=True)
    name: orm.Mapped[str]
    media_type: orm.Mapped[str]
    size: orm.Mapped[int] = orm.mapped_column(BigId)
    width: orm.Mapped[int | None]
    height: orm.Mapped[int | None]
    #: random part of the public address of a picture, so that addresses cannot be guessed
    handle: orm.Mapped[str] = orm.mapped_column(unique=True)
    content: orm.Mapped[bytes]
    created_at: orm.Mapped[dt.datetime]


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
    #: something that runs starts by it or waits for it: what happens is put into `heard`
    heard: orm.Mapped[bool] = orm.mapped_column(server_default=sa.false())


class Heard(Base):
    """Something that happened and that somebody may wait for, until it was looked at."""

    __tablename__ = "heard"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    #: empty: a reaction to a message
    kind_id: orm.Mapped[int | None] = orm.mapped_column(sa.SmallInteger)
    #: its own moment, and when we were told
    at: orm.Mapped[dt.datetime]
    details: orm.Mapped[dict[str, Any] | None]
    noted_at: orm.Mapped[dt.datetime]
