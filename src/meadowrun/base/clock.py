"""The one clock. Nobody else asks the time.

Outside the demo it is the machine's clock. In the demo an offset kept in the database moves it
forward, the same for every process; and a request from the village may carry its own moment,
signed, because the people there live through the time that was skipped.
"""

import contextlib
import contextvars
import datetime as dt
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base

_moment: contextvars.ContextVar[dt.datetime | None] = contextvars.ContextVar("moment", default=None)


class ClockOffset(Base):
    """One row in the demo, none elsewhere."""

    __tablename__ = "clock_offset"
    id: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, primary_key=True, autoincrement=False)
    #: seconds that the demo clock is ahead of the machine's
    seconds: orm.Mapped[float]
    #: where a running move of the clock is heading, empty when it stands
    moving_to: orm.Mapped[dt.datetime | None]


def machine_now() -> dt.datetime:
    """The machine's own clock, in UTC: for things that are never demonstrated (leases, sign-in
    limits)."""
    return dt.datetime.now(dt.UTC)


def now(session: orm.Session) -> dt.datetime:
    """The moment everything is worked out for, in UTC."""
    held = _moment.get()
    if held is not None:
        return held
    seconds = session.execute(sa.select(ClockOffset.seconds)).scalar()
    return machine_now() + dt.timedelta(seconds=seconds or 0.0)


@contextlib.contextmanager
def at(moment: dt.datetime) -> Iterator[None]:
    """Holds the clock still at `moment` for this thread: for tests and for the village's
    requests."""
    token = _moment.set(moment)
    try:
        yield
    finally:
        _moment.reset(token)


def set_ahead(session: orm.Session, target: dt.datetime) -> None:
    """Moves the demo clock so that it shows `target` now. It never goes back."""
    seconds = max((target - machine_now()).total_seconds(), _seconds(session))
    row = session.get(ClockOffset, 1)
    if row is None:
        session.add(ClockOffset(id=1, seconds=seconds))
    else:
        row.seconds = seconds
    session.flush()


def _seconds(session: orm.Session) -> float:
    return session.execute(sa.select(ClockOffset.seconds)).scalar() or 0.0
