"""Saved segments, every version they ever had, their sizes over time; and groupings."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Segment(Base):
    __tablename__ = "segments"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: grows by one with each saved change; a save that was based on an older one is refused
    version: orm.Mapped[int]
    definition: orm.Mapped[dict[str, Any]]
    #: size when it was last worked out, and when
    size: orm.Mapped[int | None]
    sized_at: orm.Mapped[dt.datetime | None]
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]
    #: numbers of its tags
    tags: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")


class SegmentVersion(Base):
    __tablename__ = "segment_versions"
    segment_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("segments.id", ondelete="CASCADE"), primary_key=True
    )
    version: orm.Mapped[int] = orm.mapped_column(primary_key=True)
    name: orm.Mapped[str]
    definition: orm.Mapped[dict[str, Any]]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]


class SegmentSize(Base):
    """How large a segment was on a day: the last count of that day."""

    __tablename__ = "segment_sizes"
    segment_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("segments.id", ondelete="CASCADE"), primary_key=True
    )
    day: orm.Mapped[dt.date] = orm.mapped_column(primary_key=True)
    size: orm.Mapped[int]


class SegmentMembers(Base):
    """Who was in a segment when it was last worked out in the background; for comparing, never for
    sending."""

    __tablename__ = "segment_members"
    segment_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("segments.id", ondelete="CASCADE"), primary_key=True
    )
    #: the version of the segment that these are the members of
    version: orm.Mapped[int]
    as_of: orm.Mapped[dt.datetime]
    #: a serialised roaring bitmap of contact numbers
    numbers: orm.Mapped[bytes]


class WatchedSource(Base):
    """What is stored about people of which changes are noted (core/audience/turning.py)."""

    __tablename__ = "watched_sources"
    source: orm.Mapped[str] = orm.mapped_column(primary_key=True)
    #: by the machine's clock: whoever began after that noted what they changed
    since: orm.Mapped[dt.datetime | None]


class ChangedPerson(Base):
    """Somebody of whom something changed that is watched, until that was looked at."""

    __tablename__ = "changed_people"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    source: orm.Mapped[str]
    #: 0: it may be anybody
    contact_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    #: when it has happened; empty: by now
    at: orm.Mapped[dt.datetime | None]


class Grouping(Base):
    """Ordered groups that never overlap: everyone is in the first they match, or in “everyone
    else”."""

    __tablename__ = "groupings"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    version: orm.Mapped[int]
    #: [{"key", "name", "lines"}] in order; the key never changes
    groups: orm.Mapped[list[Any]]
    #: key → people when it was last worked out, "else" among them; and when
    sizes: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    sized_at: orm.Mapped[dt.datetime | None]
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]
