"""Campaigns: everything done for one aim."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Campaign(Base):
    __tablename__ = "campaigns"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: what sort it is: open night, lecture, membership drive, newsletter …
    kind: orm.Mapped[str]
    starts: orm.Mapped[dt.date | None]
    ends: orm.Mapped[dt.date | None]
    #: numbers of its tags; its messages inherit them
    tags: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")
    #: values set once and used in all its messages, by key
    facts: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: grows with each change, so that two authors never overwrite each other
    version: orm.Mapped[int] = orm.mapped_column(server_default="1")
    created_at: orm.Mapped[dt.datetime]
    changed_at: orm.Mapped[dt.datetime]
