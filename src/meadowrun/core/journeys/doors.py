"""Who comes into a rehearsed journey, and when, where not everybody can at once."""

import heapq

import numpy as np

from meadowrun.core.journeys.clocks import Floats
from meadowrun.core.journeys.imagined import Bools, Starts


def with_room(starts: Starts, over: Floats, most: float) -> Bools:
    """Who comes in where at most so many of a play are inside at once, given when each would be
    out again. Whoever leaves at a moment makes room for who comes then."""
    comes = np.zeros(len(starts.at), bool)
    inside: dict[int, list[float]] = {}
    for one in np.argsort(starts.at, kind="stable"):
        ends = inside.setdefault(int(starts.play[one]), [])
        while ends and ends[0] <= starts.at[one]:
            heapq.heappop(ends)
        if len(ends) < most:
            heapq.heappush(ends, float(over[one]))
            comes[one] = True
    return comes


def their_turns(starts: Starts, gap: float) -> Floats:
    """When each comes in where so many minutes pass at least between two of a play: the next one
    comes at their start, or so long after the one before."""
    if not gap:
        return starts.at
    turns = starts.at.copy()
    for play in np.unique(starts.play):
        mine = np.flatnonzero(starts.play == play)
        mine = mine[np.argsort(starts.at[mine], kind="stable")]
        waits = gap * np.arange(len(mine))
        turns[mine] = waits + np.maximum.accumulate(starts.at[mine] - waits)
    return turns
