"""What past sends of the organisation teach about a subject: the share of people who open, as
expected of one like it."""

import dataclasses
import math
import re
from collections.abc import Callable, Sequence

import numpy as np

from meadowrun.core.content import fillins

#: Fewer past sends teach nothing.
LEAST = 6
#: How firmly each trait is held to count nothing until sends show otherwise, in units of one send.
_RIDGE = 3.0


@dataclasses.dataclass(frozen=True, slots=True)
class Past:
    subject: str
    delivered: int
    opened: int


@dataclasses.dataclass(frozen=True, slots=True)
class Expected:
    """Share who open, with the bounds that hold it in 9 of 10 cases, and what speaks for or against
    it."""

    share: float
    low: float
    high: float
    sends: int
    because: tuple[str, ...]

    @property
    def sure(self) -> str:
        width = self.high - self.low
        return (
            "fairly sure"
            if width < 0.08
            else "a rough guess"
            if width < 0.2
            else "hardly more than a guess"
        )


_TRAITS: Sequence[tuple[str, Callable[[str], bool]]] = (
    ("uses the person’s name", lambda s: "contact.first_name" in s),
    ("is a question", lambda s: "?" in s),
    ("is short", lambda s: len(_bare(s)) <= 30),
    ("is long", lambda s: len(_bare(s)) > 50),
    ("holds a number", lambda s: bool(re.search(r"\d", _bare(s)))),
    ("holds a colon", lambda s: ":" in _bare(s)),
)


def _bare(subject: str) -> str:
    return fillins.PART.sub("Alexandra", subject)


def _traits(subject: str) -> list[float]:
    return [float(bool(holds(subject))) for _, holds in _TRAITS]


def expected(subject: str, past: Sequence[Past]) -> Expected | None:
    """What a subject would be opened by, or None when too few sends are known.

    Ridge regression of the logit of each send's share on the traits of its subject (Hoerl and
    Kennard 1970), every send weighing the same; the bounds come from the spread of the sends around
    the fit, 1.645 standard errors to either side.
    """
    known = [p for p in past if p.delivered >= 50]
    if len(known) < LEAST:
        return None
    shares = np.array([(p.opened + 0.5) / (p.delivered + 1) for p in known])
    logits = np.log(shares / (1 - shares))
    design = np.array([[1.0, *_traits(p.subject)] for p in known])
    penalty = np.diag([0.0] + [_RIDGE] * len(_TRAITS))
    inverse = np.linalg.inv(design.T @ design + penalty)
    weights = inverse @ design.T @ logits
    # Traits that the ridge all but silences cost no freedom.
    freedom = float(np.trace(design @ inverse @ design.T))
    left = logits - design @ weights
    variance = float(left @ left) / max(1.0, len(known) - freedom)
    row = np.array([1.0, *_traits(subject)])
    middle = float(row @ weights)
    error = math.sqrt(variance * (1 + float(row @ inverse @ row)))

    def share(logit: float) -> float:
        return 1 / (1 + math.exp(-logit))

    traits = sorted(zip(_TRAITS, weights[1:], row[1:], strict=True), key=lambda t: -abs(t[1]))
    because = tuple(
        f"{'+' if weight > 0 else '−'} {name}"
        for (name, _), weight, has in traits
        if has and abs(weight) > 0.03
    )
    return Expected(
        share(middle),
        share(middle - 1.645 * error),
        share(middle + 1.645 * error),
        len(known),
        because,
    )
