"""When a dispatch may reach each person: its moments and hours, and the quiet hours of its
channel."""

import datetime as dt
import itertools
import zoneinfo
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.guardrails.verdict import GO, NoRoom, Verdict, Wait, not_before
from meadowrun.core.timing.best_hours import open_hours
from meadowrun.core.timing.hours import Hours
from meadowrun.core.timing.moments import Moments, first_moment
from meadowrun.core.timing.zones import zone_of
from meadowrun.outgoing import calendars
from meadowrun.outgoing.models import Dispatch, QuietHours

ZONES = "SELECT DISTINCT timezone FROM contacts"

#: Whether a delivery `d` may wait for room or for hours, among others.
FOR_ROOM = """
d.stood_on->>'because' IN ('cap', 'own_limit', 'hours', 'quiet_hours', 'best_hour')"""
#: Whoever waits for room or for hours is judged again at once: everybody, or some contacts.
AGAIN = f"""
UPDATE deliveries d SET due = :now WHERE d.outcome = 'waiting' AND d.due > :now AND {FOR_ROOM}
AND (CAST(:contacts AS bigint[]) IS NULL OR d.contact_id = ANY(:contacts))
"""
#: Until it is certain whether there is room.
_SOON = dt.timedelta(minutes=1)


def judge_again(session: orm.Session, now: dt.datetime, contacts: list[int] | None = None) -> None:
    """Has everybody judged again who waits for room or for hours, or (not None) some of them:
    what they wait for has changed."""
    session.execute(sa.text(AGAIN), {"now": now, "contacts": contacts})


class Timing:
    """When one dispatch may reach people of each zone."""

    def __init__(
        self,
        moments: Moments,
        quiet: QuietHours | None,
        zone: zoneinfo.ZoneInfo,
        no_room: str = "wait",
        by_hour: bool = False,
        by_and_by: bool = False,
    ):
        self.moments, self._zone = moments, zone
        #: reason → hours outside of which nobody is reached yet
        self._waits_for: dict[str, Hours] = {}
        if not moments.hours.always:
            self._waits_for["hours"] = moments.hours
        #: hours outside of which it is not sent at all
        self._drops: Hours | None = None
        if quiet is not None and quiet.does == "wait":
            self._waits_for["quiet_hours"] = quiet.open
        elif quiet is not None:
            self._drops = quiet.open
        self._portions: dict[str | None, list[dt.datetime]] = {}
        self._at_hours: dict[tuple[str | None, int, dt.datetime], dt.datetime] = {}
        self._said: dict[tuple[Any, ...], Verdict] = {}
        #: what becomes of people for whom a limit leaves no room, one of NO_ROOM
        self._no_room = no_room
        #: each person is reached at an hour of their own
        self.by_hour = by_hour
        #: people come by and by: the hour of each is the next one, not the first since it began
        self._by_and_by = by_and_by

    @classmethod
    def of(cls, session: orm.Session, dispatch: Dispatch, zone: zoneinfo.ZoneInfo) -> "Timing":
        """That of a dispatch as things are now; `zone` is that of people without one."""
        moments = Moments(
            dispatch.taken_at,
            dispatch.local_at,
            dispatch.passed,
            calendars.hours_of(session, dispatch.hours),
            dispatch.portion_gap,
        )
        exempt = dispatch.consent_rule == "service"
        return cls(
            moments,
            None if exempt else session.get(QuietHours, dispatch.channel),
            zone,
            dispatch.no_room,
            dispatch.best_hour,
            not dispatch.sealed,
        )

    @property
    def at_once(self) -> bool:
        """Whether nobody ever waits or is left out because of it."""
        return (
            self.moments.at_once
            and not self._waits_for
            and self._drops is None
            and not self.by_hour
        )

    def open_hours(self) -> list[int]:
        """The hours of the day at which somebody can be reached."""
        shut = [] if self._drops is None else [self._drops]
        return open_hours([*self._waits_for.values(), *shut], self.moments.starts.date())

    def verdict(
        self,
        now: dt.datetime,
        zone_name: str | None,
        portion: int | None,
        room: NoRoom | None = None,
        hour: int | None = None,
        later: Wait | None = None,
    ) -> Verdict:
        """Whether somebody of a zone and a portion is reached now, until when they wait, or why
        they are not; `room` is what message limits have them wait for, `hour` the hour of the day
        that was chosen for them, `later` what else they wait for."""
        if room is not None and self._no_room == "skip":
            # Whoever waits for something else may have room by then.
            said = self.verdict(now, zone_name, portion, None, hour, later)
            if not said.goes:
                return said
            if not room.certain:
                return not_before(now + _SOON, room.because)
            return Verdict("no_room", room.because)
        if room is None and later is None:
            if self.at_once:
                return GO
            # Of the many of one zone it is worked out once.
            key = now, zone_name, portion, hour
            if key not in self._said:
                self._said[key] = self._in_time(now, zone_name, portion, hour, ())
            return self._said[key]
        waits = [(wait[0], wait[1]) for wait in (room, later) if wait is not None]
        return self._in_time(now, zone_name, portion, hour, waits)

    def _in_time(
        self,
        now: dt.datetime,
        zone_name: str | None,
        portion: int | None,
        hour: int | None,
        waits: Sequence[Wait],
    ) -> Verdict:
        """The same for whoever waits for some things besides."""
        zone = zone_of(zone_name) or self._zone
        begins = self._begins(zone_name, zone, portion or 0)
        if begins is None:
            return Verdict("late", "passed")
        own = "portion" if portion else "own_clock"
        if hour is not None:
            since = max(begins, now) if self._by_and_by else begins
            own, begins = "best_hour", self._at_hour(zone_name, zone, since, hour)
        moments = {own: begins, **{because: until for until, because in waits}}
        waited = first_moment(now, zone, moments, self._waits_for)
        if waited is not None:
            return not_before(waited.until, waited.because)
        if self._drops is not None and not self._drops.is_open(now, zone):
            return Verdict("quiet", "quiet_hours")
        return GO

    def _begins(
        self, name: str | None, zone: zoneinfo.ZoneInfo, portion: int
    ) -> dt.datetime | None:
        """From when on a portion may reach people of a zone; None: never."""
        if not portion:
            return self.moments.begins(zone)
        known = self._portions.get(name, [])
        if portion >= len(known):
            known = self._portions[name] = self.moments.portions(zone, portion + 100)
        if portion < len(known):
            return known[portion]
        # Hours that never open: nobody is reached before the last moment.
        return known[-1] if known else self.moments.begins(zone)

    def _at_hour(
        self, name: str | None, zone: zoneinfo.ZoneInfo, begins: dt.datetime, hour: int
    ) -> dt.datetime:
        """When a chosen hour comes first for people of a zone."""
        known = self._at_hours.get((name, hour, begins))
        if known is None:
            shut = [one for key, one in self._waits_for.items() if key != "hours"]
            if self._drops is not None:
                shut.append(self._drops)
            known = self.moments.at_hour(begins, zone, hour, shut)
            self._at_hours[name, hour, begins] = known
        return known

    def dues(self, session: orm.Session, portions: int) -> list[dict[str, Any]]:
        """For people of each zone on file, each portion and each hour that may be chosen for them:
        from when on they may be claimed, and what they wait for until then; {zone, portion, hour,
        due, stood_on}."""
        starts = self.moments.starts
        hours: list[int | None] = [*self.open_hours()] if self.by_hour else [None]
        names = session.scalars(sa.text(ZONES)).all()
        found = []
        for name, portion, hour in itertools.product(names, range(portions), hours):
            said = self.verdict(starts, name, portion, None, hour)
            if said.until is not None:
                found.append(
                    {
                        "zone": name or "",
                        "portion": portion,
                        "hour": hour,
                        "due": said.until.isoformat(),
                        "stood_on": said.to_json(),
                    }
                )
        return found
