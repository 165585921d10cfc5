"""How many have reached something after so long, where some have not been looked at for that long
yet."""

import dataclasses
import math
from collections.abc import Iterable

#: So many standard deviations on both sides hold 95 of 100 of a normal distribution.
_OF_95 = 1.959964


@dataclasses.dataclass(frozen=True, slots=True)
class Seen:
    """So many people who were looked at for so many days, and reached it on the last of these or
    not."""

    day: int
    reached: bool
    people: int


@dataclasses.dataclass(frozen=True, slots=True)
class Reached:
    """The share that has reached it by the end of each day on which somebody did: (day, share)."""

    people: int
    by_day: tuple[tuple[int, float], ...]
    #: Σ d_i / (n_i (n_i - d_i)) over these days: how unsure it is (M. Greenwood: The Natural
    #: Duration of Cancer, 1926)
    spread: float = 0.0

    @property
    def share(self) -> float:
        """The share in the end, from 0 to 1."""
        return self.by_day[-1][1] if self.by_day else 0.0

    @property
    def bounds(self) -> tuple[float, float] | None:
        """Between which shares the true one lies in 95 of 100 such cases, on the scale of
        log(-log), which keeps them within 0 and 1 (J. D. Kalbfleisch, R. L. Prentice: The
        Statistical Analysis of Failure Time Data, 1980); None where nobody reached it, or
        everybody."""
        still = 1 - self.share
        if not 0 < self.share < 1 or not math.isfinite(self.spread):
            return None
        wide = math.exp(_OF_95 * math.sqrt(self.spread) / -math.log(still))
        return 1 - still ** (1 / wide), 1 - still**wide

    def by(self, day: int) -> float:
        """The share by the end of a day."""
        return max((share for on, share in self.by_day if on <= day), default=0.0)

    @property
    def half(self) -> int | None:
        """By the end of which day half of those who reach it have; None where nobody does."""
        return next((day for day, share in self.by_day if share >= self.share / 2), None)


def reached(seen: Iterable[Seen]) -> Reached:
    """The product-limit estimate: 1 - Π (1 - d_i / n_i), over the days i on which d_i of the n_i
    who were still looked at reached it. Whoever is not looked at any longer without having reached
    it counts until then (E. L. Kaplan, P. Meier: Nonparametric Estimation from Incomplete
    Observations, 1958)."""
    days: dict[int, list[int]] = {}
    for one in seen:
        counted = days.setdefault(one.day, [0, 0])
        counted[0 if one.reached else 1] += one.people
    left = total = sum(sum(one) for one in days.values())
    still, spread, found = 1.0, 0.0, []
    for day in sorted(days):
        did, gone = days[day]
        if did:
            still *= 1 - did / left
            spread += did / (left * (left - did)) if did < left else math.inf
            found.append((day, 1 - still))
        left -= did + gone
    return Reached(total, tuple(found), spread)
