"""When what leaves may reach each person: at once or at a moment on their own clock, within hours,
all at once or in portions."""

import dataclasses
import datetime as dt
from collections.abc import Iterable, Mapping, Sequence

from meadowrun.core import wording
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import SEARCHED, Hours, first_open
from meadowrun.core.timing.zones import moment_of

#: What becomes of people on whose clock the moment had passed when it started: it goes at once, at
#: the same time of the next day, or not at all.
PASSED = {
    "now": Wording("get it at once"),
    "next_day": Wording("get it the next day"),
    "skip": Wording("do not get it"),
}
#: The most portions of one audience, and the minutes between two of them that can be chosen.
MOST_PORTIONS = 1000
GAPS = (5, 10, 15, 30, 60, 120, 240, 1440)


@dataclasses.dataclass(frozen=True, slots=True)
class Moments:
    """When one dispatch may reach people, whatever else is asked of them."""

    #: when it started
    starts: dt.datetime
    #: the time on each person's own clock (naive); None: for all at once
    local: dt.datetime | None = None
    #: one of PASSED
    passed: str = "next_day"
    hours: Hours = Hours()
    #: minutes between two portions
    gap: int = 0

    @property
    def at_once(self) -> bool:
        """Whether it may reach everybody from its start on, at any hour."""
        return self.local is None and self.hours.always and not self.gap

    def begins(self, zone: dt.tzinfo) -> dt.datetime | None:
        """From when on it may reach people of a zone; None: never, since their moment has
        passed."""
        if self.local is None:
            return self.starts
        here = moment_of(self.local, zone)
        if here >= self.starts:
            return here
        if self.passed == "now":
            return self.starts
        if self.passed == "skip":
            return None
        day = self.local
        while here < self.starts:
            day += dt.timedelta(days=1)
            here = moment_of(day, zone)
        return here

    def at_hour(
        self, begins: dt.datetime, zone: dt.tzinfo, hour: int, also: Sequence[Hours] = ()
    ) -> dt.datetime:
        """The first moment from `begins` on at which an hour of the day begins, or lasts, in a zone
        while its hours and some others are open; `begins` where that never happens."""
        hours = [self.hours, *also]

        def opened(at: dt.datetime) -> bool:
            return all(one.is_open(at, zone) for one in hours)

        if begins.astimezone(zone).hour == hour and opened(begins):
            return begins
        first = begins.astimezone(zone).date()
        for ahead in range(SEARCHED):
            day = first + dt.timedelta(days=ahead)
            at = moment_of(dt.datetime.combine(day, dt.time(hour)), zone)
            if at >= begins and opened(at):
                return at
        return begins

    def portions(self, zone: dt.tzinfo, count: int) -> list[dt.datetime]:
        """From when on each of the first so many portions may reach people of a zone; fewer where
        hours never open. A gap that ends outside the hours goes on at the next opening, so that
        what gathers overnight does not leave as one."""
        begins = self.begins(zone)
        found: list[dt.datetime] = []
        at = begins and self.hours.first_open(begins, zone)
        while at is not None and len(found) < count:
            found.append(at)
            at = self.hours.first_open(at + dt.timedelta(minutes=self.gap), zone)
        return found


@dataclasses.dataclass(frozen=True, slots=True)
class Waited:
    """Until when one person waits, and because of what (one of REASONS)."""

    until: dt.datetime
    because: str


def first_moment(
    now: dt.datetime,
    zone: dt.tzinfo,
    not_before: Mapping[str, dt.datetime | None],
    hours: Mapping[str, Hours],
) -> Waited | None:
    """The first moment from now on at which all rules hold together, and the rule that it waits
    for; None: now.

    Args:
        not_before: reason → the moment from which on the rule lets it go, for good.
        hours: reason → hours outside of which it does not go.

    A rule of the first kind never closes again, so the first moment that the hours of all share
    from the latest of them on is the answer. Where the hours never meet, it waits for as long as
    is searched.
    """
    at, because = now, ""
    for reason, moment in not_before.items():
        if moment is not None and moment > at:
            at, because = moment, reason
    opens = first_open(list(hours.values()), at, zone)
    if opens == at:
        return Waited(at, because) if because else None
    # Of several that are shut on the way, the one that opens last says why it is that moment.
    before = at if opens is None else opens - dt.timedelta(microseconds=1)
    shut = next(name for name, one in hours.items() if not one.is_open(before, zone))
    return Waited(opens or at + dt.timedelta(days=SEARCHED), shut)


def portion_words(
    size: int | None, gap: int, stop_percent: float | None = None, best_hour: bool = False
) -> Wording:
    """How fast it leaves, in words: “all at once”, “at each person’s best hour”, “in portions of
    500, one every 30 minutes”; with the share of bounces and complaints above which it stops."""
    if best_hour:
        return Wording("at each person’s best hour")
    if size is None:
        return Wording("all at once")
    said = Wording(
        "in portions of %(size)s, one every %(gap)s",
        size=wording.number(size),
        gap=gap_words(gap),
    )
    if stop_percent is None:
        return said
    return Wording(
        "%(portions)s, until more than %(percent)s%% bounce or complain",
        portions=said,
        percent=f"{stop_percent:g}",
    )


def gap_words(minutes: int) -> Wording:
    """30 → “30 minutes”, 60 → “hour”, 1440 → “day”."""
    if minutes == 1440:
        return Wording("day")
    if minutes == 60:
        return Wording("hour")
    if minutes % 60 == 0:
        return wording.count_of(minutes // 60, "hour")
    return wording.count_of(minutes, "minute")


def by_hour(
    people: Iterable[tuple[dt.tzinfo, int | None, int]],
    moments: Moments,
    quiet: Sequence[Hours],
    size: int | None,
    total: int,
) -> list[tuple[dt.datetime, int]]:
    """How many people get it when: (moment, people), in order. Whoever is never reached is left
    out.

    Args:
        people: zone, the hour of the day that is chosen for them (None: none is), and how many of
            them may get it.
        quiet: further hours that must be open.
        size: how many of all `total` people go together; None: all of them.
    """
    size = size or max(total, 1)
    portions = min(MOST_PORTIONS, -(-total // size)) if total else 0
    found: dict[dt.datetime, int] = {}
    for zone, hour, count in people:
        for number, begins in enumerate(moments.portions(zone, portions)):
            # Portions are drawn by chance: a zone has its share of each.
            until = min((number + 1) * size, total) if number + 1 < portions else total
            share = count * until // total - count * number * size // total
            if hour is not None:
                begins = moments.at_hour(begins, zone, hour, quiet)
            at = first_open([moments.hours, *quiet], begins, zone)
            if share and at is not None:
                found[at] = found.get(at, 0) + share
    return sorted(found.items())
