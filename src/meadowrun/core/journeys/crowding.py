"""How many messages people get within some days, of those that a rehearsal imagines."""

from collections.abc import Sequence

import numpy as np

from meadowrun.core.journeys.clocks import DAY, Floats, Ints
from meadowrun.core.journeys.imagined import Range, World
from meadowrun.core.journeys.ranges import between


def most_within(whose: Ints, at: Floats, span: float, since: float) -> tuple[Ints, Ints]:
    """Everybody who gets any message from `since` on, and the most that each gets within a time.

    `whose` says by a number who gets each message, `at` when, in any order; a time so long (`span`)
    holds its end and not its beginning, and ends from `since` on.
    """
    order = np.lexsort((at, whose))
    whose, at = whose[order], at[order]
    # One long line of all moments, everybody's apart from the next one's by more than `span`.
    begins = np.min(at, initial=0.0)
    apart = np.max(at, initial=0.0) - begins + 2 * span
    _, place = np.unique(whose, return_inverse=True)
    along = place * apart + (at - begins)
    many = np.arange(len(at)) - np.searchsorted(along, along - span, side="right") + 1
    late = at >= since
    found, first = np.unique(whose[late], return_index=True)
    if not len(found):
        return found, np.empty(0, np.int64)
    return found, np.maximum.reduceat(many[late], first)


def in_a_week(world: World, gets: Sequence[tuple[Ints, Floats]]) -> tuple[Range, ...]:
    """How many people get one message at least, two, three … within seven days, of those who get
    any of a journey (`gets`: which starts, and when), with what they get from elsewhere."""
    if not gets:
        return ()
    starts, everybody = world.starts, len(world.people.contacts)
    who = np.concatenate([one for one, _ in gets])
    whose = starts.play[who] * everybody + starts.person[who]
    at = np.concatenate([moments for _, moments in gets])
    if world.people.elsewhere is not None:
        some = np.unique(whose)
        moments = world.people.elsewhere[some % everybody]
        known = np.isfinite(moments) & (moments <= world.until)
        whose = np.concatenate([whose, np.repeat(some, known.sum(axis=1))])
        at = np.concatenate([at, moments[known]])
    found, most = most_within(whose, at, 7 * DAY, world.looked_from)
    play = found // everybody
    highest = int(most.max(initial=0))
    ranges = []
    for count in range(1, highest + 1):
        people: Floats = np.bincount(play[most >= count], minlength=world.plays).astype(np.float64)
        ranges.append(between(people * world.weight))
    return tuple(ranges)
