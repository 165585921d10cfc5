"""The hour of the day at which each person reacts most, learnt from when they reacted before.

People whose reactions come at similar hours form a kind. Kinds are learnt from everybody: each is
a profile, the share of reactions in each of the 24 hours. Somebody's own profile starts from the
kinds that fit them and moves towards their own reactions as there are more of them: with few it
says what people like them do, with many what they do themselves.

Kinds are a mixture of multinomial distributions, fitted by expectation maximisation (Dempster,
Laird and Rubin, 1977); a person's profile is the mean of a Dirichlet distribution around them
(empirical Bayes).
"""

import dataclasses
import datetime as dt
from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from meadowrun.core.timing.hours import Hours

HOURS = 24
#: From so many reactions on somebody is known by their own; below, by people like them.
KNOWN = 5
#: How many kinds are looked for, each of which begins at another hour of the day.
KINDS = 12
#: How often kinds and people are fitted to each other.
ROUNDS = 30
#: How many reactions of their own weigh as much as what people like them do.
STRENGTH = 6.0
#: The share of an hour that its two neighbours have in what is said of it: people keep no clock.
_BLUR = (0.25, 0.5, 0.25)

Counts = npt.NDArray[np.float64]
Ranks = npt.NDArray[np.int16]


@dataclasses.dataclass(frozen=True, slots=True)
class Habits:
    """What was learnt about everybody."""

    #: kinds × hours: the share of a kind's reactions in each hour
    profiles: Counts
    #: the share of people of each kind
    weights: Counts

    @classmethod
    def learn(cls, counts: Counts) -> "Habits":
        """From people × hours, how often each person reacted in each hour of their own clock.
        Where nobody reacted all hours are alike."""
        some = counts[counts.sum(axis=1) > 0]
        profiles = _first_profiles()
        weights = np.full(KINDS, 1 / KINDS)
        if not len(some):
            return cls(np.full((1, HOURS), 1 / HOURS), np.ones(1))
        overall = _blurred(some.sum(axis=0) + 1.0)
        overall /= overall.sum()
        for _ in range(ROUNDS):
            belongs = _belongs(some, profiles, weights)
            weights = (belongs.sum(axis=0) + 1.0) / (len(some) + KINDS)
            # Twenty reactions of everybody keep a kind of few people from being a single hour.
            profiles = _blurred(belongs.T @ some + 20.0 * overall)
            profiles /= profiles.sum(axis=1, keepdims=True)
        return cls(profiles, weights)

    def of(self, counts: Counts) -> Counts:
        """The profiles of some people: people × hours, each row the chance that a reaction of
        theirs falls into each hour."""
        like_them = _belongs(counts, self.profiles, self.weights) @ self.profiles
        own = _blurred(counts)
        found: Counts = (own + STRENGTH * like_them) / (
            counts.sum(axis=1, keepdims=True) + STRENGTH
        )
        return found


def _first_profiles() -> Counts:
    """Kinds before anything is learnt: each around another hour, two hours apart."""
    hours = np.arange(HOURS)
    centres = np.arange(KINDS) * HOURS / KINDS
    apart = np.abs((hours[None, :] - centres[:, None] + HOURS / 2) % HOURS - HOURS / 2)
    around: Counts = np.exp(-0.5 * (apart / 2.0) ** 2) + 0.02
    profiles: Counts = around / around.sum(axis=1, keepdims=True)
    return profiles


def _belongs(counts: Counts, profiles: Counts, weights: Counts) -> Counts:
    """How likely each person is of each kind: people × kinds."""
    said = counts @ np.log(profiles).T + np.log(weights)
    said -= said.max(axis=1, keepdims=True)
    likely: Counts = np.exp(said)
    shares: Counts = likely / likely.sum(axis=1, keepdims=True)
    return shares


def _blurred(counts: Counts) -> Counts:
    """Counts with a part of each hour in its neighbours, around the clock."""
    before, at, after = _BLUR
    found: Counts = (
        at * counts + before * np.roll(counts, 1, axis=-1) + after * np.roll(counts, -1, axis=-1)
    )
    return found


def ranked(profiles: Counts) -> Ranks:
    """The hours of each person, the best first; of two alike the earlier."""
    found: Ranks = np.argsort(-profiles, axis=1, kind="stable").astype(np.int16)
    return found


def single_best(counts: Counts) -> int:
    """The one hour in which most reactions fall, with a part of its neighbours."""
    return int(np.argmax(_blurred(counts.sum(axis=0))))


def share_near(counts: Counts, hours: npt.NDArray[np.integer]) -> float:
    """The share of reactions that fell into the hour chosen for their person or the one after it;
    0.0 where there are none."""
    rows = np.arange(len(counts))
    near = counts[rows, hours] + counts[rows, (hours + 1) % HOURS]
    total = counts.sum()
    return float(near.sum() / total) if total else 0.0


def open_hours(several: Sequence[Hours], day: dt.date) -> list[int]:
    """The full hours of the day at which all of some hours are open on one of the seven days from
    `day` on; all of them where none is."""
    found = [
        hour
        for hour in range(HOURS)
        if any(
            _is_open(several, dt.datetime.combine(day + dt.timedelta(days=ahead), dt.time(hour)))
            for ahead in range(7)
        )
    ]
    return found or list(range(HOURS))


def _is_open(several: Sequence[Hours], local: dt.datetime) -> bool:
    at = local.replace(tzinfo=dt.UTC)
    return all(one.is_open(at, dt.UTC) for one in several)
