"""How many people some starts of a rehearsal stand for, over its plays."""

import numpy as np

from meadowrun.core.journeys.clocks import Floats, Ints
from meadowrun.core.journeys.imagined import Range, World


def by_play(world: World, who: Ints) -> Floats:
    """How many people some starts stand for in each play."""
    plays = world.starts.play[who]
    weights = np.full(len(plays), world.weight)
    counted: Floats = np.bincount(plays, weights, world.plays).astype(np.float64)
    return counted


def between(counts: Floats) -> Range:
    """The middle of what each play counted, and between which numbers nine of ten lie."""
    low, middle, high = np.percentile(counts, (5, 50, 95))
    return Range(float(low), float(middle), float(high))


def range_of(world: World, who: Ints) -> Range:
    """How many people some starts stand for: the middle of the plays, with its bounds."""
    return between(by_play(world, who))
