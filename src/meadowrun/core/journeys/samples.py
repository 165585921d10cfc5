"""What each play of a rehearsal goes by: a sample of what is known."""

from collections.abc import Sequence

import numpy as np

from meadowrun.core.journeys.clocks import Ints


def drawn_for(random: np.random.Generator, known: int, plays: int, play: Ints) -> Ints:
    """One of so many that are known for each of some people of several plays, by its number.

    Each play draws from a sample of its own, as large as what is known, with replacement: what
    rests on few cases differs from play to play as much as it could have turned out otherwise (the
    bootstrap; Efron & Tibshirani, An Introduction to the Bootstrap, chapter 6).
    """
    samples = random.integers(known, size=(plays, known))
    found: Ints = samples[play, random.integers(known, size=len(play))]
    return found


def as_many(random: np.random.Generator, some: Sequence[int], share: float) -> Ints:
    """Some people, by their places, where there are so many times as many: a few of them drawn by
    chance, or all of them and others who are like some of them."""
    everybody = np.array(some, np.int64)
    many = round(len(everybody) * share)
    if many == len(everybody):
        return everybody
    if many < len(everybody):
        return np.sort(random.choice(everybody, many, replace=False))
    others = random.choice(everybody, many - len(everybody))
    return np.concatenate([everybody, others])
