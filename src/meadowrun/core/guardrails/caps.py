"""Message limits: how many messages one person may get within a period, and when there is room for
the next.

Minutes are true minutes. Days, weeks (from Monday) and months are those of the person's own
calendar.
"""

import dataclasses
import datetime as dt
from collections.abc import Sequence, Set

from meadowrun.core import wording
from meadowrun.core.channels import KINDS
from meadowrun.core.language import Wording

#: The most days that one unit can have.
UNITS = {"minute": 0, "day": 1, "week": 7, "month": 31}
MOST_LENGTH = {"minute": 1440, "day": 90, "week": 26, "month": 12}


@dataclasses.dataclass(frozen=True, slots=True)
class Had:
    """One message that somebody had: when, on which channel, with which tags."""

    at: dt.datetime
    channel: str
    tags: frozenset[int] = frozenset()


@dataclasses.dataclass(frozen=True, slots=True)
class Cap:
    """At most so many messages within so many minutes, days, weeks or months."""

    most: int
    length: int
    unit: str
    #: the channel whose messages it is about; empty: those of all channels
    channel: str = ""
    #: the path of the tag whose messages it is about, and the numbers of it and of all tags under
    #: it; none: whatever their tags
    tag: str = ""
    tags: frozenset[int] = frozenset()

    def is_about(self, channel: str, tags: Set[int]) -> bool:
        """Whether messages of a channel with some tags count for it, and obey it."""
        return self.channel in ("", channel) and (not self.tag or bool(self.tags & tags))

    def reaches_back(self) -> dt.timedelta:
        """How long before now a message can have gone to be within the period, whatever the
        zone."""
        if self.unit == "minute":
            return dt.timedelta(minutes=self.length)
        return dt.timedelta(days=UNITS[self.unit] * self.length + 2)

    def is_within(self, moment: dt.datetime, now: dt.datetime, zone: dt.tzinfo) -> bool:
        """Whether a message that went at a moment is in the period that ends now."""
        return self._leaves(moment, zone) > now

    def since(self, now: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
        """When the period that ends now began; what went at that very moment is in it, but for
        minutes."""
        if self.unit == "minute":
            return now - dt.timedelta(minutes=self.length)
        day = now.astimezone(zone).date()
        if self.unit == "day":
            first = day - dt.timedelta(days=self.length - 1)
        elif self.unit == "week":
            first = day - dt.timedelta(days=day.weekday() + 7 * (self.length - 1))
        else:
            months = day.year * 12 + day.month - 1 - (self.length - 1)
            first = dt.date(months // 12, months % 12 + 1, 1)
        return _midnight(first, zone)

    def room_at(
        self, had: Sequence[dt.datetime], now: dt.datetime, zone: dt.tzinfo
    ) -> dt.datetime | None:
        """The first moment at which one more may go to somebody who had messages at moments; None:
        now."""
        if len(had) < self.most:
            return None
        within = sorted(moment for moment in had if self.is_within(moment, now, zone))
        if len(within) < self.most:
            return None
        return self._leaves(within[len(within) - self.most], zone)

    def words(self) -> Wording:
        """As it is read: “at most 2 emails a week”."""
        what = KINDS[self.channel] if self.channel else None
        count = wording.number(self.most)
        if what is None:
            messages = wording.count_of(self.most, "message")
        else:
            name = what.one if self.most == 1 else what.several
            messages = Wording("%(n)s %(what)s", n=count, what=name)
        if self.length == 1 and self.unit != "minute":
            period = {
                "day": Wording("a day"),
                "week": Wording("a week"),
                "month": Wording("a month"),
            }[self.unit]
        else:
            period = Wording("in %(time)s", time=wording.count_of(self.length, self.unit))
        if self.tag:
            return Wording(
                "at most %(messages)s with “%(tag)s” %(period)s",
                messages=messages,
                tag=self.tag,
                period=period,
            )
        return Wording("at most %(messages)s %(period)s", messages=messages, period=period)

    def _leaves(self, moment: dt.datetime, zone: dt.tzinfo) -> dt.datetime:
        """From when on a message that went at a moment is in the period no more."""
        if self.unit == "minute":
            return moment + dt.timedelta(minutes=self.length)
        day = moment.astimezone(zone).date()
        if self.unit == "day":
            after = day + dt.timedelta(days=self.length)
        elif self.unit == "week":
            after = day - dt.timedelta(days=day.weekday()) + dt.timedelta(weeks=self.length)
        else:
            months = day.year * 12 + day.month - 1 + self.length
            after = dt.date(months // 12, months % 12 + 1, 1)
        return _midnight(after, zone)


def _midnight(day: dt.date, zone: dt.tzinfo) -> dt.datetime:
    """When a day begins. A midnight that a clock change leaves out is the first moment after it."""
    return dt.datetime(day.year, day.month, day.day, tzinfo=zone).astimezone(dt.UTC)


def room_for(
    caps: Sequence[Cap],
    had: Sequence[Had],
    channel: str,
    now: dt.datetime,
    zone: dt.tzinfo,
    tags: Set[int] = frozenset(),
) -> dt.datetime | None:
    """The first moment at which all limits together leave room for a message of a channel with some
    tags, to somebody who had others; None: now. Once there is room there stays room, since a period
    only moves on."""
    waits = [
        cap.room_at([one.at for one in had if cap.is_about(one.channel, one.tags)], now, zone)
        for cap in caps
        if cap.is_about(channel, tags)
    ]
    return max((until for until in waits if until is not None), default=None)
