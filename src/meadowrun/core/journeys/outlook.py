"""How many come in the days ahead, beside the five weeks before: by the same weeks of the year
before, and by how far off looks ahead were in the past."""

import dataclasses
import math
from collections.abc import Sequence

import numpy as np

from meadowrun.core.journeys.clocks import Floats

#: So many weeks before a day say how many come on such a day of the week.
WEEKS = 5
_SEEN = 7 * WEEKS
#: The same day of the week, a year before.
YEAR = 52 * 7
#: Fewer looks ahead than these say little of how far off they are. What is assumed then, and
#: measured nowhere: about a fifth more or less, as the standard deviation of a logarithm.
_LOOKS, _UNKNOWN = 4, 0.2
#: Counts of nothing have no logarithm.
_HALF = 0.5


@dataclasses.dataclass(frozen=True, slots=True)
class Outlook:
    """How many are to be expected beside the weeks before: the logarithm of the share, and its
    standard deviation. Chance (Poisson) comes on top of it."""

    middle: float = 0.0
    spread: float = 0.0

    def drawn(self, random: np.random.Generator, plays: int) -> Floats:
        """The share in each of some plays."""
        return np.exp(random.normal(self.middle, self.spread, plays))


@dataclasses.dataclass(frozen=True, slots=True)
class _Look:
    """One look ahead from a day of the past: by which logarithm it was off, and the variance that
    chance alone gives that."""

    off: float
    by_chance: float


def outlook(a_day: Sequence[int], days: int) -> Outlook:
    """What the days ahead bring beside the five weeks before, given how many came on each day up to
    yesterday, in order.

    A look ahead takes each day for the mean of the five such days of the week before it. Each look
    of the past, a week apart, was off by some share; what chance (Poisson, as much wider as the
    weeks differ) does not explain is how far off looks are. The look of a year ago says by how much
    this one will be, the more the surer it is (the posterior mean and variance of a normal
    distribution with a normal prior; Gelman et al., Bayesian Data Analysis, section 2.5).
    """
    counts = np.array(a_day, float)
    begun = np.flatnonzero(counts)
    if not len(begun):
        return Outlook()
    before = len(counts) - int(begun[0])
    counts = counts[begun[0] :]
    if before < _SEEN:
        return Outlook(0.0, _UNKNOWN)
    wider = _wider(counts)
    uneven = _by_chance(float(counts[-_SEEN:].sum()), days, wider)
    looks = [_look(counts, day, days, wider) for day in range(before - days, _SEEN - 1, -7)]
    if len(looks) < _LOOKS:
        return Outlook(0.0, math.sqrt(_UNKNOWN**2 + uneven))
    off = max(float(np.mean([one.off**2 - one.by_chance for one in looks])), 0.0)
    if not off or before < YEAR + _SEEN or days > YEAR:
        return Outlook(0.0, math.sqrt(off + uneven))
    year_ago = _look(counts, before - YEAR, days, wider)
    sure = off / (off + year_ago.by_chance)
    return Outlook(sure * year_ago.off, math.sqrt(sure * year_ago.by_chance + uneven))


def _look(counts: Floats, day: int, days: int, wider: float) -> _Look:
    """The look ahead from one day of the past over so many days."""
    weeks = counts[day - _SEEN : day].reshape(WEEKS, 7)
    thought = float(weeks.mean(axis=0)[np.arange(days) % 7].sum())
    came = float(counts[day : day + days].sum())
    off = math.log((came + _HALF) / (thought + _HALF))
    chance = 1 / (came + _HALF) + _by_chance(float(weeks.sum()), days, wider)
    return _Look(off, chance)


def _by_chance(seen: float, days: int, wider: float) -> float:
    """The variance of a look ahead's logarithm where nothing changes, without that of the days
    ahead themselves (Poisson): so many were seen in five weeks, and weeks differ."""
    ahead = (seen + _HALF) * max(days, 7) / _SEEN
    return wider / (seen + _HALF) + (wider - 1) / ahead


def _wider(counts: Floats) -> float:
    """How many times as much as by chance alone weeks that follow each other differ: 1 at the
    least."""
    weeks = counts[len(counts) % 7 :].reshape(-1, 7).sum(axis=1)
    if len(weeks) < 5 or not weeks.sum():
        return 1.0
    # How much each differs from those two weeks before and after (what is busy one week may be so
    # the next): what only rises or falls does not count, and of independent counts with one
    # variance such a second difference has six times that.
    uneven = weeks[:-4] - 2 * weeks[2:-2] + weeks[4:]
    return max(1.0, float(np.mean(uneven**2)) / (6 * float(weeks.mean())))


@dataclasses.dataclass(frozen=True, slots=True)
class Drift:
    """How the number of certain people goes on: the logarithm by which it changes in a week, and
    the standard deviation of that, from week to week and of what is known of it."""

    a_week: float = 0.0
    spread: float = 0.0
    known: float = 0.0

    def drawn(self, random: np.random.Generator, plays: int, days: Sequence[float]) -> Floats:
        """The share of today's number after so many days each, in order; one row a play."""
        weeks = np.array(days, float) / 7
        steps = np.sqrt(np.diff(weeks, prepend=0.0))
        strays = np.cumsum(random.normal(0, self.spread, (plays, len(weeks))) * steps, axis=1)
        slope = random.normal(self.a_week, self.known, (plays, 1))
        return np.exp(slope * weeks + strays)


def drift(numbers: Sequence[int]) -> Drift:
    """How a number goes on that was so large on days a week apart, in order, the last one now: as a
    random walk of its logarithm, with the mean of its steps and their standard deviation."""
    counts = np.array(numbers, float) + _HALF
    steps = np.diff(np.log(counts))
    if len(steps) < 2:
        return Drift()
    spread = float(np.std(steps, ddof=1))
    return Drift(float(np.mean(steps)), spread, spread / math.sqrt(len(steps)))
