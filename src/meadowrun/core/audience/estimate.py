"""How many of everyone do something, from how many of a sample do: the likeliest number, and the
range it lies in 95 of 100 times."""

import dataclasses
import math
from collections.abc import Callable

from meadowrun.core.audience.sieve import Sieve, Step

#: How often at least the true number lies inside the range.
SURE = 0.95
#: Halvings until a share is known to about a billionth.
_HALVINGS = 30
_TINY = 1e-300


@dataclasses.dataclass(frozen=True, slots=True)
class Sample:
    """`sampled` people drawn by chance from `people`."""

    sampled: int
    people: int

    def about(self, hits: int) -> int:
        """The likeliest number of all people, when `hits` of the sample match, with the digits that
        mean something."""
        if not self.sampled:
            return 0
        if self.sampled == self.people:
            return hits
        share = hits / self.sampled
        # About as wide as the range; a sample that found nobody, or everybody, is as sure as one
        # that found one more or less.
        wide = (
            4 * self.people * math.sqrt(max(share * (1 - share), 1 / self.sampled) / self.sampled)
        )
        step: int = 10 ** max(0, math.floor(math.log10(max(wide, 1))))
        return round(share * self.people / step) * step

    def between(self, hits: int) -> tuple[int, int]:
        """The least and the most of all people that match, at the certainty of SURE.

        Clopper and Pearson's exact interval (1934). A sample without putting back is narrower than
        that, never wider. What the sample has seen itself bounds it as well.
        """
        if not self.sampled:
            return 0, self.people
        low, high = shares(hits, self.sampled)
        return max(hits, math.floor(low * self.people)), min(
            self.people - (self.sampled - hits), math.ceil(high * self.people)
        )


def shares(hits: int, of: int) -> tuple[float, float]:
    """The interval of Clopper and Pearson for `hits` of `of`, as two shares between 0 and 1."""
    rest = (1 - SURE) / 2
    low = _where(lambda share: _beta(share, hits, of - hits + 1), rest) if hits else 0.0
    high = _where(lambda share: _beta(share, hits + 1, of - hits), 1 - rest) if hits < of else 1.0
    return low, high


def _where(rising: Callable[[float], float], value: float) -> float:
    """Where a function that rises from 0 to 1 between 0 and 1 takes a value, by halving."""
    low, high = 0.0, 1.0
    for _ in range(_HALVINGS):
        middle = (low + high) / 2
        if rising(middle) < value:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def _beta(x: float, a: float, b: float) -> float:
    """The regularised incomplete beta function I_x(a, b), by its continued fraction (Abramowitz and
    Stegun 26.5.8)."""
    if x <= 0 or x >= 1:
        return float(x >= 1)
    front = math.exp(
        math.lgamma(a + b) - math.lgamma(a) - math.lgamma(b) + a * math.log(x) + b * math.log1p(-x)
    )
    # The fraction converges fast on one side only; the other is its complement.
    if x < (a + 1) / (a + b + 2):
        return front * _fraction(x, a, b) / a
    return 1 - front * _fraction(1 - x, b, a) / b


def _fraction(x: float, a: float, b: float) -> float:
    """The continued fraction of the incomplete beta function, by Lentz's method."""
    c, d = 1.0, 1 / _apart(1 - (a + b) * x / (a + 1))
    found = d
    # Terms needed grow with the root of the larger of a and b.
    for m in range(1, 200 + int(4 * math.sqrt(max(a, b)))):
        for term in (
            m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m)),
            -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1)),
        ):
            d = 1 / _apart(1 + term * d)
            c = _apart(1 + term / c)
            found *= d * c
        if abs(d * c - 1) < 1e-12:
            break
    return found


def _apart(value: float) -> float:
    return value if abs(value) > _TINY else _TINY


def scaled(found: Sieve, sample: Sample) -> Sieve:
    """A sieve worked out on a sample, as it would likely be among all people. Who is in it stays
    who is in the sample.

    That two lines never meet cannot be told from a sample.
    """
    about = sample.about
    steps = tuple(
        Step(s.id, about(s.before), about(s.kept), about(s.alone), s.off) for s in found.steps
    )
    return Sieve(
        sample.people,
        steps,
        {k: about(n) for k, n in found.alone.items()},
        {k: about(n) for k, n in found.without.items()},
        (),
        found.members,
        about(found.size),
    )
