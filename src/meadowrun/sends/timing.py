"""When a send starts, when it reaches whom, and when it ends."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.timing.hours import Hours
from meadowrun.core.timing.moments import Moments, by_hour
from meadowrun.core.timing.zones import moment_of, zone_of
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing import calendars
from meadowrun.outgoing.models import QuietHours
from meadowrun.outgoing.timing import ZONES
from meadowrun.sends.models import Send


def zones_on_file(session: orm.Session, send: Send) -> list[zoneinfo.ZoneInfo]:
    """The zones of all contacts; whoever has none has that of the send, which is the
    organisation's where it goes by each person's own clock."""
    here = zoneinfo.ZoneInfo(send.zone)
    names = session.scalars(sa.text(ZONES)).all()
    return list({here, *(zone_of(name) or here for name in names)})


def starts(session: orm.Session, send: Send, now: dt.datetime) -> dt.datetime:
    """When a send starts: now, at its moment, or when that comes first on anybody's clock."""
    if send.leaves_at is None:
        return now
    if send.local_at is None:
        return max(send.leaves_at, now)
    found = (moment_of(send.local_at, place) for place in zones_on_file(session, send))
    return max(min(found), now)


def has_passed(session: orm.Session, send: Send, now: dt.datetime) -> bool:
    """Whether the moment of a send lies behind everybody."""
    if send.leaves_at is None:
        return False
    soon = now - dt.timedelta(minutes=5)
    if send.local_at is None:
        return send.leaves_at < soon
    places = zones_on_file(session, send)
    return all(moment_of(send.local_at, place) < soon for place in places)


def moments_of(session: orm.Session, send: Send, starts_at: dt.datetime) -> Moments:
    """When a send that starts at a moment may reach people. Raises HoursError."""
    return Moments(
        starts_at,
        send.local_at,
        send.passed,
        calendars.hours_of(session, send.hours),
        send.portion_gap if send.portion_size else 0,
    )


def last_moment(session: orm.Session, send: Send, starts_at: dt.datetime) -> dt.datetime:
    """When a send that starts at a moment ends for whoever still waits: so many hours after it
    may reach the last zone."""
    moments = moments_of(session, send, starts_at)
    begins = [starts_at]
    if send.local_at is not None:
        found = (moments.begins(place) for place in zones_on_file(session, send))
        begins += [moment for moment in found if moment is not None]
    return max(begins).replace(microsecond=0) + dt.timedelta(hours=send.within_hours)


def quiet_of(session: orm.Session, send: Send, channel: str) -> QuietHours | None:
    """The quiet hours that a send keeps to; None: there are none for it."""
    if send.consent_rule == "service" or CHANNELS[channel].waits_there:
        return None
    return session.get(QuietHours, channel)


@dataclasses.dataclass(frozen=True, slots=True)
class Arrivals:
    """When the people of a send get it, as far as the hours decide."""

    #: (moment, people), in order
    moments: Sequence[tuple[dt.datetime, int]]
    #: how many are reached only after the last moment, and so not at all
    too_late: int
    #: how many are not reached because their moment has passed
    passed: int
    #: how many of them have no zone of their own
    assumed: int

    @property
    def people(self) -> int:
        return sum(people for _, people in self.moments)


def arrivals(
    session: orm.Session,
    send: Send,
    channel: str,
    people: Sequence[tuple[str | None, int]],
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> Arrivals:
    """When the people of some zones (name, how many) would get a send. Raises HoursError."""
    starts_at = starts(session, send, now)
    quiet = quiet_of(session, send, channel)
    shut = [quiet.open] if quiet is not None and quiet.does == "wait" else list[Hours]()
    counted: dict[zoneinfo.ZoneInfo, int] = {}
    for name, count in people:
        place = zone_of(name) or zone
        counted[place] = counted.get(place, 0) + count
    found = by_hour(
        list(counted.items()), moments_of(session, send, starts_at), shut, send.portion_size
    )
    until = last_moment(session, send, starts_at)
    in_time = [(moment, count) for moment, count in found if moment < until]
    reached = sum(count for _, count in found)
    total = sum(counted.values())
    return Arrivals(
        in_time,
        reached - sum(count for _, count in in_time),
        total - reached,
        sum(count for name, count in people if zone_of(name) is None),
    )
