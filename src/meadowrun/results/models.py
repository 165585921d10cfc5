"""Numbers kept so that tables of many sends open at once."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class SendNumbers(Base):
    """The counts of one send as last worked out in the background; its own page always counts
    afresh."""

    __tablename__ = "send_numbers"
    send_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("sends.id", ondelete="CASCADE"), primary_key=True
    )
    counted_at: orm.Mapped[dt.datetime]
    numbers: orm.Mapped[dict[str, Any]]
