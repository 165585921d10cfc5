"""Effect of sending, against people who would have got it and did not."""

import dataclasses
import math

#: Two-sided 95 %, and the power of 80 %, as standard normal deviates.
Z95 = 1.959963984540054
Z80 = 0.8416212335729143


@dataclasses.dataclass(frozen=True, slots=True)
class Group:
    """People, and how many of them succeeded."""

    people: int
    succeeded: int

    @property
    def share(self) -> float:
        return self.succeeded / self.people if self.people else 0.0


@dataclasses.dataclass(frozen=True, slots=True)
class Worth:
    """The shares of those written to and of the control group, and their difference with the bounds
    that hold it in 95 of 100 cases."""

    written: Group
    control: Group
    low: float
    high: float

    @property
    def gain(self) -> float:
        """Share among those written to less share in the control group: from -1 to 1."""
        return self.written.share - self.control.share

    @property
    def sure(self) -> bool:
        """Whether chance alone is unlikely to have brought it: zero lies outside the bounds."""
        return self.low > 0 or self.high < 0

    @property
    def more(self) -> float:
        """How many more people succeeded because it was sent, as far as the two shares tell."""
        return self.gain * self.written.people


def wilson(group: Group, z: float = Z95) -> tuple[float, float]:
    """Bounds of a share by its score interval (Wilson 1927). Without people everything is possible:
    (0, 1)."""
    if not group.people:
        return 0.0, 1.0
    n, p = group.people, group.share
    middle = p + z * z / (2 * n)
    spread = z * math.sqrt(p * (1 - p) / n + z * z / (4 * n * n))
    return (middle - spread) / (1 + z * z / n), (middle + spread) / (1 + z * z / n)


def worth(written: Group, control: Group) -> Worth:
    """The difference of two shares with bounds from the score intervals of both (Newcombe 1998,
    method 10)."""
    (low1, high1), (low2, high2) = wilson(written), wilson(control)
    one, two = written.share, control.share
    down = math.sqrt((one - low1) ** 2 + (high2 - two) ** 2)
    up = math.sqrt((high1 - one) ** 2 + (two - low2) ** 2)
    return Worth(written, control, one - two - down, one - two + up)


def least_gain(usual: float, written: int, control: int) -> float | None:
    """The least true gain in share that would show, in 4 of 5 cases at 95 %, when `usual` succeed
    without being written to.

    Solves gain = (z95 + z80) · sqrt(p1(1-p1)/n1 + p0(1-p0)/n0) with p1 = usual + gain, the formula
    of sample sizes for two proportions (Fleiss, Levin and Paik 2003, 4.2, without their
    correction), by halving. None when nothing up to certainty would.
    """
    if not written or not control:
        return None

    def shows(gain: float) -> bool:
        variance = (usual + gain) * (1 - usual - gain) / written + usual * (1 - usual) / control
        return gain >= (Z95 + Z80) * math.sqrt(max(0.0, variance))

    low, high = 0.0, 1.0 - usual
    if not shows(high):
        return None
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (low, middle) if shows(middle) else (middle, high)
    return high
