"""What a rehearsal imagines: real people, what people did after such a start in the past, and what
it found. Moments are minutes since a midnight in UTC (`clocks.py`)."""

import dataclasses
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys.clocks import Clocks, Floats, Ints
from meadowrun.core.timing.hours import Hours

Bools = npt.NDArray[np.bool_]
Texts = npt.NDArray[np.str_]


@dataclasses.dataclass(frozen=True)
class Leaving:
    """How the message of a step leaves: on which channel, in which hours, how long it may wait,
    which limits it obeys and counts for, by their place, and at the best hour of each."""

    channel: str
    hours: tuple[Hours, ...] = ()
    hold: float = 168 * 60.0
    obeys: tuple[int, ...] = ()
    counts: tuple[int, ...] = ()
    #: the hour of the day at which each of the people gets it, -1 for any; None: all at any
    hour: Ints | None = None
    #: whether it comes to people by itself, and is not only there when they come
    comes: bool = True


@dataclasses.dataclass(frozen=True)
class People:
    """Real people, one row each."""

    contacts: Ints
    #: which of the clocks they live by
    zone: Ints
    #: step → what the verdict on its message says of them now: “go”, or why not
    verdicts: Mapping[str, Texts]
    #: path of a branch → whether they are one of those who take it
    among: Mapping[str, Bools]
    #: step that waits for a date → the days that come into question, in order; NaN: none
    dates: Mapping[str, Floats]
    #: place of a limit → when they had, or will get from elsewhere, messages that count for it;
    #: infinity where there are fewer
    had: Mapping[int, Floats]
    #: exit rule → whether they are one of those whom it takes out, on each day from the first on
    taken_out: Mapping[str, Bools] = dataclasses.field(default_factory=dict)
    #: when they had, or will get from elsewhere, any message that comes to them; infinity where
    #: there are fewer; None: never
    elsewhere: Floats | None = None


@dataclasses.dataclass(frozen=True)
class Pasts:
    """What people really did."""

    #: kind of event → when each of some people did it, in minutes after their start, in order;
    #: infinity where there is no more
    events: Mapping[str, Floats]
    #: step → each of REACTIONS after so many minutes, one row a message that was sent;
    #: infinity where they did not
    reactions: Mapping[str, Floats]
    #: what the event of each start said; nothing where they came in otherwise
    details: Sequence[Mapping[str, Any] | None] = ()


@dataclasses.dataclass(frozen=True)
class Starts:
    """Everybody who comes in, in any of the plays: which of the people, like which of the pasts, in
    which play, and when; in the order of the plays."""

    person: Ints
    past: Ints
    play: Ints
    at: Floats


@dataclasses.dataclass(frozen=True)
class World:
    """All that a rehearsal goes by."""

    clocks: Clocks
    people: People
    pasts: Pasts
    starts: Starts
    plays: int
    #: so long is imagined
    until: float
    leaving: Mapping[str, Leaving]
    limits: tuple[Cap, ...]
    #: path of a wait for something → the share of people, from 0 to 1, whom the author has do it
    shares: Mapping[str, float]
    #: chance is the same for a person each time, by this
    salt: str
    #: so many real people stand for one that is imagined
    weight: float = 1.0
    seed: int = 1
    #: place among the starts → step → the path that somebody takes there because the author
    #: answers for them
    answers: Mapping[int, Mapping[str, str]] = dataclasses.field(default_factory=dict)
    #: place of a limit that some people asked for themselves → who of the people did
    wished: Mapping[int, Bools] = dataclasses.field(default_factory=dict)
    #: so many minutes pass at least between two who come in; the others wait their turn
    gap: float = 0.0
    #: from when on it is looked at each day whom the exit rules take out
    looked_from: float = 0.0
    #: so many imagined people are inside at once, and whoever comes then does not come in; 0: any
    #: number
    most_inside: float = 0.0


@dataclasses.dataclass(frozen=True, slots=True)
class Range:
    """How many: the middle of all plays, and between which numbers nine of ten plays lie."""

    low: float
    middle: float
    high: float


@dataclasses.dataclass(frozen=True, slots=True)
class Passed:
    """One step of one imagined person: when they came, and why from the step before."""

    step: str
    at: float
    because: str


@dataclasses.dataclass(frozen=True)
class Rehearsal:
    """What became of everybody."""

    entered: Range
    inside: Range
    finished: Range
    #: how many did not come in because so many were inside
    full: Range
    #: reason → how many left before the end
    left: Mapping[str, Range]
    goal: Range
    came: Mapping[str, Range]
    sent: Mapping[str, Range]
    #: step → reason → to how many its message was not sent
    kept_back: Mapping[str, Mapping[str, Range]]
    #: step → how many went on from it, or came to the end by it
    on: Mapping[str, Range]
    #: path → how many took it
    took: Mapping[str, Range]
    #: step → after how many days half of those who come there have come, from when they came in
    after: Mapping[str, float]
    #: how many messages wait for room under a limit
    delayed: Range
    #: channel → messages on each day: the middle, and what one day in ten goes beyond
    a_day: Mapping[str, Floats]
    #: step → how many are on it at the end of each day
    here: Mapping[str, Floats]
    #: the way of some of those who came in, by their place among the starts
    ways: Mapping[int, tuple[Passed, ...]]
    #: when each start is over, infinity where they are still inside
    over: Floats
    #: how many people get one message at least, two, three … within any seven days, of those who
    #: get any of this journey, and of all messages
    in_a_week: tuple[Range, ...] = ()
    #: tasks that colleagues get on each day
    tasks: Floats = dataclasses.field(default_factory=lambda: np.empty(0))
    #: path of a random split → how many have taken it by the end of each day
    chose: Mapping[str, Floats] = dataclasses.field(default_factory=dict)
