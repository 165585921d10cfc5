"""A journey's itinerary: steps that are always well-formed, since paths are held inside the step at
which they part and meet again behind it by themselves."""

import dataclasses
import datetime as dt
from collections.abc import Iterator
from typing import ClassVar

#: Units of a wait → one of them.
UNITS = {
    "minute": dt.timedelta(minutes=1),
    "hour": dt.timedelta(hours=1),
    "day": dt.timedelta(days=1),
    "week": dt.timedelta(weeks=1),
}
#: What can be waited for of a message that went before.
REACTIONS = ("opened", "clicked", "bounced")
#: What becomes of somebody to whom a message may not be sent.
REFUSED = ("go_on", "exit")
#: How often one person can be in a journey.
AGAIN = ("once", "after", "any")
#: Hours after its own moment at which an event still starts something.
TOO_LATE = 24


@dataclasses.dataclass(frozen=True, slots=True)
class Span:
    """A span of time, as it was said: so many units."""

    amount: int
    unit: str

    def length(self) -> dt.timedelta:
        """How long it is. A day is 24 hours here; a wait with an hour of the day goes by the
        calendar."""
        return self.amount * UNITS[self.unit]


@dataclasses.dataclass(frozen=True, slots=True)
class MessageStep:
    """Sends a message through the one door; the person stays until it is handed over or refused."""

    kind: ClassVar[str] = "message"
    id: str
    message: int
    #: so many hours it may wait for hours, limits and the like
    hold: int = 168
    #: what becomes of somebody to whom it may not be sent, one of REFUSED
    refused: str = "go_on"


@dataclasses.dataclass(frozen=True, slots=True)
class WaitStep:
    """Waits a time; with `at` (minutes after midnight) until that hour on the person's own
    clock."""

    kind: ClassVar[str] = "wait"
    id: str
    span: Span
    at: int | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Path:
    """One of the ways on from a step, with its own steps: who is in a segment, who did something,
    or a share. What holds for it is by the step it belongs to."""

    id: str
    steps: tuple["Step", ...] = ()
    #: branch: the number of a saved segment
    segment: int = 0
    #: wait for: the key of an event kind, or one of REACTIONS
    event: str = ""
    reaction: str = ""
    #: random split: the share, in percent
    percent: int = 0


@dataclasses.dataclass(frozen=True, slots=True)
class BranchStep:
    """Goes by what is true of the person on arrival: the first path that fits, else the last one,
    which is always there."""

    kind: ClassVar[str] = "branch"
    id: str
    paths: tuple[Path, ...]


@dataclasses.dataclass(frozen=True, slots=True)
class WaitForStep:
    """Holds the person until the first of several things happens, at most so long; the last path is
    for those of whom none happened."""

    kind: ClassVar[str] = "wait_for"
    id: str
    span: Span
    paths: tuple[Path, ...]


@dataclasses.dataclass(frozen=True, slots=True)
class SplitStep:
    """Goes by chance, the same for a person each time."""

    kind: ClassVar[str] = "split"
    id: str
    paths: tuple[Path, ...]


@dataclasses.dataclass(frozen=True, slots=True)
class ChangeStep:
    """Gives or takes a tag, or puts the person on a list or takes them off."""

    kind: ClassVar[str] = "change"
    id: str
    #: tag or list
    what: str
    number: int
    remove: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ExitStep:
    """Takes the person out of the journey."""

    kind: ClassVar[str] = "exit"
    id: str


Step = MessageStep | WaitStep | BranchStep | WaitForStep | SplitStep | ChangeStep | ExitStep
Parting = BranchStep | WaitForStep | SplitStep


@dataclasses.dataclass(frozen=True, slots=True)
class Start:
    """What brings somebody in: an event of a kind happens, or they are in a segment when the
    journey starts."""

    event: str = ""
    segment: int = 0


@dataclasses.dataclass(frozen=True, slots=True)
class Goal:
    """The real aim: an event within so many days of coming in. It may end the journey."""

    event: str
    days: int
    ends: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Itinerary:
    """All of a journey that its author decides."""

    start: Start = Start()
    steps: tuple[Step, ...] = ()
    goal: Goal | None = None
    #: one of AGAIN; for “after” so many days after the last time
    again: str = "once"
    again_days: int = 90
    #: the highest number that an id of it ever had: none is given twice
    ids: int = 0

    def walk(self) -> Iterator[tuple[Step, int, Path | None]]:
        """Every step in the order of its lines, with how deep it is nested and the path it is
        in."""
        return _walk(self.steps, 0, None)

    def step(self, ident: str) -> Step | None:
        """The step of an id; None where there is none."""
        return next((one for one, _, _ in self.walk() if one.id == ident), None)


def _walk(
    steps: tuple[Step, ...], depth: int, inside: Path | None
) -> Iterator[tuple[Step, int, Path | None]]:
    for one in steps:
        yield one, depth, inside
        if isinstance(one, Parting):
            for path in one.paths:
                yield from _walk(path.steps, depth + 1, path)


def numbered(itinerary: Itinerary) -> dict[str, str]:
    """What each step and path is called in the margin: “4”, its paths “4a”, “4b”, the steps in them
    “4a1”."""
    found: dict[str, str] = {}
    _number(itinerary.steps, "", found)
    return found


def _number(steps: tuple[Step, ...], before: str, found: dict[str, str]) -> None:
    for place, one in enumerate(steps, 1):
        found[one.id] = name = f"{before}{place}"
        if isinstance(one, Parting):
            for letter, path in zip("abcdefghijklmnopqrstuvwxyz", one.paths, strict=False):
                found[path.id] = f"{name}{letter}"
                _number(path.steps, f"{name}{letter}", found)
