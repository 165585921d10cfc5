"""The sample campaign, and what belongs to it."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects import postgresql

from meadowrun.base.db import Base


def _belongs(table: str) -> "orm.Mapped[int | None]":
    """What belongs to it of a table; empty once it was deleted by itself."""
    return orm.mapped_column(sa.ForeignKey(f"{table}.id", ondelete="SET NULL"))


class Sample(Base):
    """The one sample campaign of an installation, while there is one."""

    __tablename__ = "sample"
    id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True, server_default="1")
    #: the invented contacts, by number; whoever came onto its list later is none of them
    people: orm.Mapped[list[int]] = orm.mapped_column(postgresql.ARRAY(sa.BigInteger))
    list_id: orm.Mapped[int | None] = _belongs("lists")
    segment_id: orm.Mapped[int | None] = _belongs("segments")
    invitation_id: orm.Mapped[int | None] = _belongs("messages")
    reminder_id: orm.Mapped[int | None] = _belongs("messages")
    campaign_id: orm.Mapped[int | None] = _belongs("campaigns")
    send_id: orm.Mapped[int | None] = _belongs("sends")
    journey_id: orm.Mapped[int | None] = _belongs("journeys")
    made_at: orm.Mapped[dt.datetime]
    made_by: orm.Mapped[str]
