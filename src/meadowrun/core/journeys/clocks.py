"""Clocks, hours and message limits for many people at once, in NumPy: the same declarations as one
person is judged by (`core/timing/hours.py`, `core/guardrails/caps.py`); a test holds them equal.

Moments are minutes since a midnight in UTC, as floats; infinity is never.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys.steps import WaitStep
from meadowrun.core.timing.hours import Hours

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
DAY = 24 * 60.0
NEVER = np.inf
#: So many days ahead hours are looked for: a week, and what holidays may close of it.
_LOOKED_AHEAD = 40
#: The days of the week that are tried for a day of the week at an hour.
_TRIED = 9


@dataclasses.dataclass(frozen=True)
class Clocks:
    """The clocks that people live by, from a midnight in UTC on for some days: `offsets` are the
    minutes that each is ahead of UTC, by zone and hour; an hour before the beginning has the first,
    one after the end the last."""

    begins: dt.date
    offsets: Ints

    @classmethod
    def of(cls, begins: dt.date, days: int, zones: Sequence[zoneinfo.ZoneInfo]) -> "Clocks":
        """Those of some zones for so many days."""
        first = dt.datetime.combine(begins, dt.time(), dt.UTC)
        hours = [first + dt.timedelta(hours=hour) for hour in range(days * 24)]
        return cls(
            begins,
            np.array(
                [
                    [int(_ahead(moment, zone).total_seconds() // 60) for moment in hours]
                    for zone in zones
                ],
                np.int64,
            ).reshape(len(zones), len(hours)),
        )

    def minutes(self, moment: dt.datetime) -> float:
        """A moment as minutes."""
        first = dt.datetime.combine(self.begins, dt.time(), dt.UTC)
        return (moment - first).total_seconds() / 60

    def moment(self, minutes: float) -> dt.datetime:
        """Minutes as a moment."""
        first = dt.datetime.combine(self.begins, dt.time(), dt.UTC)
        return first + dt.timedelta(minutes=float(minutes))

    def local(self, at: Floats, zone: Ints) -> Floats:
        """What the clocks show at moments, in minutes since their own first midnight."""
        return at + self._offset(at, zone)

    def utc(self, local: Floats, zone: Ints) -> Floats:
        """The moments at which clocks show a time."""
        guess = local - self._offset(local, zone)
        return local - self._offset(guess, zone)

    def _offset(self, at: Floats, zone: Ints) -> Floats:
        last = self.offsets.shape[1] - 1
        finite = np.where(np.isfinite(at), at, 0.0)
        hour = np.clip(np.floor(finite / 60), 0, last).astype(np.int64)
        return self.offsets[zone, hour].astype(np.float64)


def _ahead(moment: dt.datetime, zone: zoneinfo.ZoneInfo) -> dt.timedelta:
    return moment.astimezone(zone).utcoffset() or dt.timedelta()


def first_open(hours: Hours, at: Floats, zone: Ints, clocks: Clocks) -> Floats:
    """The first moment from each of `at` on at which hours are open; infinity where they are not
    within forty days."""
    if hours.always:
        return at
    local = clocks.local(at, zone)
    found = np.full(at.shape, NEVER)
    closed = np.array([(day - clocks.begins).days for day in hours.closed], np.int64)
    today = np.floor(np.where(np.isfinite(local), local, 0) / DAY).astype(np.int64)
    left = np.isfinite(local)
    for ahead in range(-1, _LOOKED_AHEAD):
        if not left.any():
            break
        begins = today + ahead
        on_day = np.isin((clocks.begins.weekday() + begins) % 7, hours.days)
        for date, opens, closes in _parts(begins, hours):
            there = left & on_day & ~np.isin(date, closed) & (local < date * DAY + closes)
            found = np.where(there, np.maximum(local, date * DAY + opens), found)
            left &= ~there
    opened = clocks.utc(found, zone)
    return np.where(np.isfinite(found), np.maximum(opened, at), NEVER)


def _parts(begins: Ints, hours: Hours) -> list[tuple[Ints, int, int]]:
    """The parts of the window that begins on days: the day, its first minute, its last."""
    if hours.begins < hours.ends:
        return [(begins, hours.begins, hours.ends)]
    return [(begins, hours.begins, int(DAY)), (begins + 1, 0, hours.ends)]


def at_hour(hour: Ints, at: Floats, zone: Ints, clocks: Clocks) -> Floats:
    """The first moment from each of `at` on at which an hour of the day begins, or lasts; at once
    where the hour is -1."""
    local = clocks.local(at, zone)
    finite = np.where(np.isfinite(local), local, 0.0)
    begins = np.floor(finite / DAY) * DAY + hour * 60
    lasts = (begins <= finite) & (finite < begins + 60)
    begins = np.where(begins < finite, begins + DAY, begins)
    found = np.where(lasts, at, clocks.utc(begins, zone))
    return np.where(np.isfinite(at) & (hour >= 0), found, at)


def leaves(cap: Cap, at: Floats, zone: Ints, clocks: Clocks) -> Floats:
    """From when on messages that went at moments are in the period of a limit no more; minus
    infinity for those that never went."""
    went = np.isfinite(at)
    if cap.unit == "minute":
        return np.where(went, at + cap.length, -NEVER)
    local = clocks.local(np.where(went, at, 0.0), zone)
    day = np.floor(local / DAY).astype(np.int64)
    if cap.unit == "day":
        after = day + cap.length
    elif cap.unit == "week":
        after = day - (clocks.begins.weekday() + day) % 7 + 7 * cap.length
    else:
        first = np.datetime64(clocks.begins, "D")
        months = (first + day).astype("datetime64[M]") + cap.length
        after = (months.astype("datetime64[D]") - first).astype(np.int64)
    midnight = (after * DAY).astype(np.float64)
    return np.where(went, clocks.utc(midnight, zone), -NEVER)


def room_at(most: int, had: Floats, until: Floats, now: Floats) -> Floats:
    """The first moment from `now` on at which there is room for one more where at most so many may
    count, by what each had until `now`. `had` are moments of messages, one row a person, infinity
    where there are fewer; each counts until `until`, as `leaves` says. What comes meanwhile counts
    when it is asked again as of then."""
    if had.shape[1] < most:
        return now
    counts = np.where(had <= now[:, None], until, -NEVER)
    place = counts.shape[1] - most
    full: Floats = np.partition(counts, place, axis=1)[:, place]
    return np.maximum(now, full)


def wait_over(
    step: WaitStep, at: Floats, zone: Ints, clocks: Clocks, dates: Floats | None
) -> Floats:
    """When a wait is over for each; NaN where its moment has passed or there is none. The same as
    `engine.wait_until`; `dates` are the days that come into question, one row each."""
    length = step.span.length().total_seconds() / 60
    whole = step.span.unit in ("day", "week")
    if step.date:
        assert dates is not None
        ahead, minute = -length if step.before else length, float(step.at or 0)
        moments = (
            clocks.utc(dates * DAY + ahead + minute, zone[:, None])
            if whole
            else clocks.utc(dates * DAY + minute, zone[:, None]) + ahead
        )
        later = np.where(moments >= at[:, None], moments, NEVER).min(axis=1, initial=NEVER)
        return np.where(np.isfinite(later), later, np.nan)
    up = at + length
    if step.at is None and step.weekday is None:
        return up
    wanted = step.weekday
    if step.at is None:
        day: Floats = np.floor(clocks.local(up, zone) / DAY)
        ahead_days = ((wanted or 0) - (clocks.begins.weekday() + day)) % 7
        return np.maximum(up, clocks.utc((day + ahead_days) * DAY, zone))
    day = np.floor(clocks.local(at if whole else up, zone) / DAY)
    if whole:
        day = day + length / DAY
    least = at if whole else up
    for _ in range(_TRIED):
        moment = clocks.utc(day * DAY + step.at, zone)
        fits = moment >= least
        if wanted is not None:
            fits &= (clocks.begins.weekday() + day) % 7 == wanted
        if fits.all():
            break
        day = np.where(fits, day, day + 1)
    return clocks.utc(day * DAY + step.at, zone)
