"""What every look at people stands on, as one value."""

import dataclasses
import datetime as dt
import zoneinfo

from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.core.audience.fields import Dictionary
from meadowrun.people.queries import dictionary


@dataclasses.dataclass(frozen=True, slots=True)
class Moment:
    """A look at people: by which session, in the names of which dictionary, at what time (aware),
    and on whose clock for people who name none."""

    session: orm.Session
    words: Dictionary
    now: dt.datetime
    zone: zoneinfo.ZoneInfo


def at_present(session: orm.Session, timezone: str) -> Moment:
    """A look at people as of now, in today's names; `timezone` is the organisation's."""
    return Moment(session, dictionary(session), clock.now(session), zoneinfo.ZoneInfo(timezone))
