"""What message limits would have done to what one person was really sent, in order: who waits takes
room that comes later."""

import dataclasses
import datetime as dt
import heapq
from collections.abc import Sequence

from meadowrun.core.guardrails.caps import Cap, Had, room_for


@dataclasses.dataclass(frozen=True, slots=True)
class Sent:
    """One message that really went to a person."""

    at: dt.datetime
    channel: str
    tags: frozenset[int]
    #: whether it obeys limits, and whether it counts for them
    obeys: bool
    counts: bool
    #: higher ones take room first
    priority: int
    #: from then on it would not have gone any more
    last: dt.datetime | None


@dataclasses.dataclass(frozen=True, slots=True)
class Fate:
    """When it would have gone; None: not at all."""

    at: dt.datetime | None
    waited: bool


def replay(sent: Sequence[Sent], caps: Sequence[Cap], zone: dt.tzinfo) -> list[Fate]:
    """What would have become of each message to one person, in the order given.

    Of several that are due at once the one with the highest priority is judged first, then that
    which was to go first; so it is on the way out (`outgoing.caps`).
    """
    fates: list[Fate | None] = [None] * len(sent)
    had: list[Had] = []
    due = [(one.at, -one.priority, one.at, number) for number, one in enumerate(sent)]
    heapq.heapify(due)
    while due:
        now, priority, first, number = heapq.heappop(due)
        one = sent[number]
        until = (
            room_for(caps, had, one.channel, now, zone, one.tags) if one.obeys and caps else None
        )
        if until is not None:
            if one.last is not None and until >= one.last:
                fates[number] = Fate(None, True)
            else:
                heapq.heappush(due, (until, priority, first, number))
            continue
        fates[number] = Fate(now, now > one.at)
        if one.counts:
            had.append(Had(now, one.channel, one.tags))
    return [fate for fate in fates if fate is not None]
