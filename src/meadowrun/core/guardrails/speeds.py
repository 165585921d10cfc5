"""How fast messages may leave: so many an hour to one mail domain, longer gaps where its server
asks for them, and a few more each day from a domain that is new."""

import dataclasses
import datetime as dt
import math

#: What a domain takes within this time may leave at once; more waits for its turn.
AT_ONCE = dt.timedelta(minutes=1)
#: How long a domain gets nothing whose server delayed too many, by how often that came in a row.
PAUSES = tuple(dt.timedelta(minutes=m) for m in (5, 10, 20, 40, 80, 120))
#: So many of one batch have to be delayed, and this share of those that were tried.
FEWEST_DELAYED = 10
SHARE_DELAYED = 0.5


@dataclasses.dataclass(frozen=True, slots=True)
class Turns:
    """Who of some messages may leave now, and when each of the others has its turn."""

    now: int
    later: tuple[dt.datetime, ...]
    #: up to when the speed is used up by what has left
    free_at: dt.datetime
    #: when the next one after those that wait would have its turn
    planned_to: dt.datetime


def turns(
    wanted: int,
    per_hour: int,
    free_at: dt.datetime | None,
    planned_to: dt.datetime | None,
    now: dt.datetime,
    may_wait: bool = True,
) -> Turns:
    """Lets messages leave evenly, at most `per_hour` of them, and AT_ONCE of that at one moment;
    where none `may_wait`, all leave, and take the room of those after them.

    `free_at` and `planned_to` are what the call before gave; None: nothing has left yet. Source of
    the rule: the generic cell rate algorithm (ITU-T I.371, annex A), with a whole batch as one
    arrival.
    """
    gap = dt.timedelta(hours=1) / per_hour
    at_once = max(AT_ONCE, gap)
    free = max(free_at or now, now)
    room = max(0, math.floor((now + at_once - free) / gap))
    going = min(wanted, room) if may_wait else wanted
    free += going * gap
    next_turn = free + gap - at_once
    planned = max(planned_to or next_turn, next_turn)
    later = tuple(planned + place * gap for place in range(wanted - going))
    return Turns(going, later, free, planned + len(later) * gap)


def is_delaying(handed: int, delayed: int) -> bool:
    """Whether a server that took `handed` emails of one batch, and delayed others, wants to be left
    alone for a while."""
    return delayed >= FEWEST_DELAYED and delayed >= SHARE_DELAYED * (handed + delayed)


def pause(times: int) -> dt.timedelta:
    """How long a domain gets nothing whose server delayed too many for the `times`-th time in a
    row, from 1 on."""
    return PAUSES[min(max(times, 1), len(PAUSES)) - 1]


@dataclasses.dataclass(frozen=True, slots=True)
class WarmUp:
    """A domain from which little has left so far: so many emails on the first day, each day some
    percent more, until as many leave a day as it is meant for."""

    begins: dt.date
    first_day: int
    #: how many percent more than the day before
    growth: int
    #: once so many could leave on one day, there is no limit any more
    until: int

    def most_on(self, day: dt.date) -> int | None:
        """How many may leave on a day; None: as many as you like."""
        if day < self.begins:
            return None
        most = self.first_day * (1 + self.growth / 100) ** (day - self.begins).days
        return None if most >= self.until else math.floor(most)

    @property
    def ends(self) -> dt.date:
        """The first day without a limit."""
        if self.until <= self.first_day:
            return self.begins
        days = math.log(self.until / self.first_day) / math.log(1 + self.growth / 100)
        # The next whole day, unless rounding put it a hair above one.
        day = self.begins + dt.timedelta(days=math.ceil(days - 1e-9))
        while self.most_on(day) is not None:
            day += dt.timedelta(days=1)
        return day

    def last_day_of(self, people: int, day: dt.date, left: int) -> dt.date:
        """The day on which the last of some people gets an email that begins on `day`, of which
        `left` may still leave on that day."""
        while True:
            most = self.most_on(day) if left < 0 else left
            if most is None or people <= most:
                return day
            people, day, left = people - most, day + dt.timedelta(days=1), -1
