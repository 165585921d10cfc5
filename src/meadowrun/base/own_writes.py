"""One's own changes are seen at once: when everybody last changed people, so that what was worked
out before is worked out anew for them.

Kept counts and members may lag behind what others do by some seconds, and say as of when they are.
Behind one's own they never lag.
"""

import contextvars
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.clock import machine_now

_NOTE = """INSERT INTO own_writes (who, at) SELECT :who, :at
FROM set_config('synchronous_commit', 'off', true)
ON CONFLICT (who) DO UPDATE SET at = greatest(own_writes.at, excluded.at)"""
_LAST = "SELECT at FROM own_writes WHERE who = :who"
_LONG_AGO = dt.datetime.min.replace(tzinfo=dt.UTC)


class _Looking:
    """Who looks, and when they last changed something: asked for once."""

    def __init__(self, who: str):
        self.who = who
        self.last: dt.datetime | None = None


_looking: contextvars.ContextVar[_Looking | None] = contextvars.ContextVar("looking", default=None)


def note(session: orm.Session, who: str) -> None:
    """Notes that somebody changed people. To be called once the change is committed: what began
    before that may lack it."""
    session.execute(sa.text(_NOTE), {"who": who, "at": machine_now()})
    session.commit()


def look_as(who: str) -> None:
    """Says for whom the rest of this request looks; every request says it anew. Nobody in
    particular: an empty text."""
    _looking.set(_Looking(who))


def last(session: orm.Session) -> dt.datetime:
    """When the one who looks last changed something; long ago where nobody is named, or nothing was
    changed."""
    looking = _looking.get()
    if looking is None or not looking.who:
        return _LONG_AGO
    if looking.last is None:
        looking.last = session.scalar(sa.text(_LAST), {"who": looking.who}) or _LONG_AGO
    return looking.last
