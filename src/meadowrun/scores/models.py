"""Scores, the points of each contact as they were last worked out, and points given by hand."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Score(Base):
    __tablename__ = "scores"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    meaning: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: days after which something that happened counts half; None: it does not fade
    half_life: orm.Mapped[int | None]
    #: see core/scores.py
    rules: orm.Mapped[list[Any]]
    #: grows by one with each change; one that was based on an older version is refused
    version: orm.Mapped[int]
    #: as of when everyone's points were worked out; None: not since it was changed
    worked_out_at: orm.Mapped[dt.datetime | None]
    #: how long that took
    seconds: orm.Mapped[float] = orm.mapped_column(server_default="0")
    changed_at: orm.Mapped[dt.datetime]
    changed_by: orm.Mapped[str]


class ContactScore(Base):
    """Only those who have any points."""

    __tablename__ = "contact_scores"
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), primary_key=True
    )
    score_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("scores.id", ondelete="CASCADE"), primary_key=True
    )
    #: rounded to a tenth
    points: orm.Mapped[float]


class ScorePoints(Base):
    """Points somebody, or the API, gave one contact. Never updated."""

    __tablename__ = "score_points"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE")
    )
    score_id: orm.Mapped[int] = orm.mapped_column(sa.ForeignKey("scores.id", ondelete="CASCADE"))
    points: orm.Mapped[float]
    at: orm.Mapped[dt.datetime]
    by: orm.Mapped[str]
    why: orm.Mapped[str]
