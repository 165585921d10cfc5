"""What the judge knows of one person on a journey, and where they have come to."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Callable, Mapping, Sequence

from meadowrun.core.journeys.details import holds
from meadowrun.core.journeys.flat import END
from meadowrun.core.journeys.steps import Path, Who


@dataclasses.dataclass(frozen=True, slots=True)
class Happened:
    """Something that a person did: the key of an event kind, at its own moment, what it was about
    where it says so, and when we were told of it where that was later."""

    event: str
    at: dt.datetime
    about: str = ""
    told: dt.datetime | None = None

    @property
    def known(self) -> dt.datetime:
        """From when on it was known."""
        return self.told or self.at


@dataclasses.dataclass(frozen=True, slots=True)
class Answered:
    """What became of a message: when it was settled, and whether it was handed over; when the
    person reacted, by kind, and of clicks the address. Of a webhook: when it was settled, and
    whether it was answered. Who is in the control group goes on without the message."""

    at: dt.datetime
    sent: bool
    reactions: tuple[tuple[str, dt.datetime, str], ...] = ()
    control: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """All that the judge must know of one person."""

    contact: int
    zone: zoneinfo.ZoneInfo
    #: what they did, in order
    events: Sequence[Happened] = ()
    #: whether they are among certain people at a moment
    is_one: Callable[[Who, dt.datetime], bool] = lambda who, at: False
    #: what becomes of the message of a step that is asked for at a moment
    answers: Callable[[str, dt.datetime], Answered | None] = lambda step, at: None
    #: the day that a field of theirs holds
    day: Callable[[str], dt.date | None] = lambda field: None
    #: what the event said that brought them in
    details: Mapping[str, object] | None = None
    #: the clocks that they went over to later, each with since when, in order
    zones: Sequence[tuple[dt.datetime, zoneinfo.ZoneInfo]] = ()
    #: when it was looked at whom an exit rule means, in order
    looks: Sequence[dt.datetime] = ()
    #: when workers were there, in order: what was due before is done then, and whom an exit rule
    #: means is asked then before each step that reaches anybody; empty: that is not asked
    worked: Sequence[dt.datetime] = ()
    #: from when to when the journey was paused, each time: nobody goes on then by what is over
    paused: Sequence[tuple[dt.datetime, dt.datetime]] = ()

    def clock(self, at: dt.datetime) -> zoneinfo.ZoneInfo:
        """Whose hours they live by at a moment."""
        return next((zone for since, zone in reversed(self.zones) if since <= at), self.zone)

    def done(self, at: dt.datetime) -> dt.datetime | None:
        """When workers do what is due at a moment; None where that is not known."""
        return next((one for one in self.worked if one >= at), None)

    def goes_on(self, at: dt.datetime) -> dt.datetime:
        """When somebody goes on whose step is done at a moment: after a pause that it lies in."""
        return next((until for since, until in self.paused if since <= at < until), at)

    def about(self, subject: str) -> "Person":
        """Them without what they did about another subject; empty: about anything."""
        events = [one for one in self.events if not subject or one.about in ("", subject)]
        return dataclasses.replace(self, events=events)

    def takes(self, path: Path, at: dt.datetime) -> bool:
        """Whether a path of a branch is for them when they come to it."""
        if path.detail and not holds(path, self.details):
            return False
        return bool(path.detail and not path.who) or self.is_one(path.who, at)


@dataclasses.dataclass(frozen=True, slots=True)
class Came:
    """One arrival: on which step (END: at the end), when, and why from the step before. What is
    told late has people go on as of its own moment: `seen` is when that was known."""

    step: str
    at: dt.datetime
    because: str
    seen: dt.datetime = dataclasses.field(compare=False)


@dataclasses.dataclass(frozen=True, slots=True)
class Way:
    """How far somebody has come: every arrival, the last message that was sent to them, and by
    what they reached the goal. Up to `since` everything was looked at."""

    began: dt.datetime
    since: dt.datetime
    came: tuple[Came, ...]
    last: Answered | None = None
    goal: Happened | None = None

    @property
    def here(self) -> Came:
        """Where they are."""
        return self.came[-1]

    @property
    def over(self) -> bool:
        """Whether they are on the journey no more."""
        return self.here.step == END
