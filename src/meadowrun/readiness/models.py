"""What came of trying what has to be set up, the last time."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


class Probed(Base):
    """What came of one probe."""

    __tablename__ = "probed"
    #: that of the probe
    key: orm.Mapped[str] = orm.mapped_column(sa.Text, primary_key=True)
    ok: orm.Mapped[bool]
    said: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]
