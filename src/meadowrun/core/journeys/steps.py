"""A journey's itinerary: steps that are always well-formed, since paths are held inside the step at
which they part and meet again behind it by themselves."""

import dataclasses
import datetime as dt
from collections.abc import Callable, Iterator, Mapping
from typing import Any, ClassVar

from meadowrun.core.timing.rhythm import Rhythm

#: Units of a wait → one of them.
UNITS = {
    "minute": dt.timedelta(minutes=1),
    "hour": dt.timedelta(hours=1),
    "day": dt.timedelta(days=1),
    "week": dt.timedelta(weeks=1),
}
#: What can be waited for of a message that went before.
REACTIONS = ("opened", "clicked", "replied", "bounced")
#: What becomes of somebody to whom a message may not be sent.
REFUSED = ("go_on", "exit")
#: What brings people in. event: something happens; everyone: they are certain people when the
#: journey starts; turns and turns_not: they become, or stop being, certain people; date: a date of
#: theirs comes near; rhythm: certain people, on each day of a rhythm.
STARTS = ("event", "everyone", "turns", "turns_not", "date", "rhythm")
#: What becomes of somebody whose moment to wait for has passed already, or who has none.
PAST = ("go_on", "exit")
#: How a detail of an event is compared.
COMPARISONS = ("is", "is_not", "more", "less")
#: What a step can change of a person.
CHANGES = ("tag", "list", "topic", "field", "score")
#: What a field that holds a day is set to where it is to be the day on which they come there.
TODAY = "today"
#: The largest control group, in percent.
MOST_CONTROL = 50
#: The most days before its start of which a journey takes people in.
MOST_BACK = 365
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
class Who:
    """Certain people: those in a saved segment (its number), or those of whom some lines of an
    audience's definition are true. Empty: nothing is asked."""

    segment: int = 0
    lines: tuple[Mapping[str, Any], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.segment or self.lines)


@dataclasses.dataclass(frozen=True, slots=True)
class MessageStep:
    """Sends a message through the one door; the person stays until it is handed over or refused.
    People who may not get it get the first of `instead` that they may get."""

    kind: ClassVar[str] = "message"
    id: str
    message: int
    #: so many hours it may wait for hours, limits and the like
    hold: int = 168
    #: what becomes of somebody to whom it may not be sent, one of REFUSED
    refused: str = "go_on"
    #: what a message that is still to be chosen or written should do, and on which channel
    note: str = ""
    channel: str = ""
    #: messages that are tried in turn for whoever may not get the one before
    instead: tuple[int, ...] = ()
    #: the hours of its own within which it goes, in minutes after midnight on each person's clock;
    #: empty: those of the journey
    begins: int | None = None
    ends: int | None = None
    #: it goes at each person's best hour among these
    best: bool = False
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False

    def within(self, hours: Mapping[str, Any]) -> dict[str, Any]:
        """The hours within which it goes, as a dispatch keeps them: those of the journey, or its
        own on the same days."""
        if self.begins is None or self.ends is None:
            return dict(hours)
        return {**hours, "from": _clock(self.begins), "to": _clock(self.ends)}

    @property
    def messages(self) -> tuple[int, ...]:
        """All that it may send, in the order in which they are tried."""
        return (self.message, *self.instead)


def _clock(minutes: int) -> str:
    return f"{minutes // 60:02d}:{minutes % 60:02d}"


@dataclasses.dataclass(frozen=True, slots=True)
class WaitStep:
    """Waits a time; with `weekday` (0 is Monday) until such a day, with `at` (minutes after
    midnight) until that hour, both on the person's own clock. With `date`, a field that holds one,
    it waits until so long after that date, or before it."""

    kind: ClassVar[str] = "wait"
    id: str
    span: Span
    at: int | None = None
    weekday: int | None = None
    date: str = ""
    before: bool = False
    #: whether the date comes round each year
    yearly: bool = False
    #: what becomes of somebody whose moment has passed, or who has no such date: one of PAST
    past: str = "go_on"
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Path:
    """One of the ways on from a step, with its own steps: who is in a segment, who did something,
    or a share. What holds for it is by the step it belongs to."""

    id: str
    steps: tuple["Step", ...] = ()
    #: branch: who takes it
    who: Who = Who()
    #: branch: a detail of the event that started it, how it is compared (one of COMPARISONS), and
    #: with what; together with `who` both must hold
    detail: str = ""
    compare: str = ""
    value: str = ""
    #: wait for: the key of an event kind, or one of REACTIONS
    event: str = ""
    reaction: str = ""
    #: wait for, where they are to click: only this address, as it stands in the message
    link: str = ""
    #: random split: the share, in percent
    percent: int = 0
    #: what its author calls it; empty: nothing of its own
    name: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class BranchStep:
    """Goes by what is true of the person on arrival: the first path that fits, else the last one,
    which is always there."""

    kind: ClassVar[str] = "branch"
    id: str
    paths: tuple[Path, ...]
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class WaitForStep:
    """Holds the person until the first of several things happens, at most so long; the last path is
    for those of whom none happened."""

    kind: ClassVar[str] = "wait_for"
    id: str
    span: Span
    paths: tuple[Path, ...]
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class SplitStep:
    """Goes by chance, the same for a person each time."""

    kind: ClassVar[str] = "split"
    id: str
    paths: tuple[Path, ...]
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ChangeStep:
    """Gives or takes a tag, puts the person on a list or takes them off, subscribes them to a topic
    or unsubscribes them, sets a field of theirs or of their company, or gives or takes points of a
    score."""

    kind: ClassVar[str] = "change"
    id: str
    #: one of CHANGES
    what: str
    #: which tag, list, topic or score
    number: int = 0
    remove: bool = False
    #: which field, and what it is set to, as it is typed; empty: nothing stands in it any more; of
    #: a score so many points
    field: str = ""
    value: str = ""
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class TaskStep:
    """Asks a colleague for something; the person goes on at once."""

    kind: ClassVar[str] = "task"
    id: str
    #: one of core.tasks.KINDS
    what: str
    subject: str
    #: it is due so long after the person came here
    due: Span = Span(2, "day")
    #: one of core.tasks.PRIORITIES
    priority: str = "usual"
    #: the colleagues who get it in turn, by number; none: whoever started the journey
    to: tuple[int, ...] = ()
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class TellStep:
    """Writes to colleagues by email; the person goes on at once."""

    kind: ClassVar[str] = "tell"
    id: str
    #: what they are told, with fill-ins
    text: str
    #: the colleagues, by number; none: whoever started the journey
    to: tuple[int, ...] = ()
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class WebhookStep:
    """Tells another server, and waits for its answer."""

    kind: ClassVar[str] = "webhook"
    id: str
    address: str
    #: what becomes of people where it does not answer, or refuses: one of REFUSED
    failed: str = "go_on"
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class GoalStep:
    """Where whoever reaches the goal before goes on from: past the steps between. Whoever comes
    here otherwise goes on, too."""

    kind: ClassVar[str] = "goal"
    id: str
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ExitStep:
    """Takes the person out of the journey."""

    kind: ClassVar[str] = "exit"
    id: str
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class JumpStep:
    """Takes the person out of the journey and into another one, or into another lane of the same
    one, as far as that lets them."""

    kind: ClassVar[str] = "jump"
    id: str
    #: 0: this one
    journey: int
    #: the lane that they come into; empty: the first one
    lane: str = ""
    #: what its author calls it; empty: nothing of its own
    name: str = ""
    #: switched off: people pass it by
    off: bool = False


Step = (
    MessageStep
    | WaitStep
    | BranchStep
    | WaitForStep
    | SplitStep
    | ChangeStep
    | TaskStep
    | TellStep
    | WebhookStep
    | GoalStep
    | JumpStep
    | ExitStep
)
#: Steps that reach the person or somebody else, or change something.
OUTWARD = (MessageStep, ChangeStep, TaskStep, TellStep, WebhookStep)
Parting = BranchStep | WaitForStep | SplitStep


@dataclasses.dataclass(frozen=True, slots=True)
class Start:
    """One of the things that bring somebody in, by `how`, one of STARTS."""

    how: str
    #: the key of the kind of event
    event: str = ""
    #: who comes in; of events and dates only those
    who: Who = Who()
    #: the field that holds the date, and so many days before it (after it where below 0), at an
    #: hour on the person's own clock, in minutes after midnight
    date: str = ""
    before: int = 0
    at: int = 9 * 60
    #: whether the date comes round each year
    yearly: bool = False
    id: str = ""
    #: a rule of days (RFC 5545), and the day from which it counts, as an ISO date
    rhythm: str = ""
    first: str = ""
    #: of an event, also those to whom it happened in so many days before it was started
    back: int = 0
    #: the lane that it leads into; empty: the first one
    lane: str = ""

    def days(self) -> Iterator[dt.date]:
        """The days of its rhythm, in order."""
        begins = dt.datetime.combine(dt.date.fromisoformat(self.first), dt.time())
        return (one.date() for one in Rhythm.of(self.rhythm).dates(begins))


@dataclasses.dataclass(frozen=True, slots=True)
class Lane:
    """A group alongside the others: its own starts lead to its own steps, and nobody comes from one
    lane into another but by a jump."""

    id: str
    steps: tuple[Step, ...] = ()
    #: what its author calls it; empty: by its letter alone
    name: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class ExitRule:
    """What takes people out at once, wherever they are: an event, or that they become certain
    people."""

    id: str
    event: str = ""
    who: Who = Who()


@dataclasses.dataclass(frozen=True, slots=True)
class Goal:
    """The real aim: an event within so many days of coming in. It may end the journey."""

    event: str
    days: int
    ends: bool = False
    #: so many of a hundred people walk it without its marketing messages, to be compared with
    control: int = 0
    #: the detail of the event that says how much it brought; empty: none
    amount: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Door:
    """How many come in, and who does not."""

    #: so many people within an hour, evenly; the others wait their turn. 0: all at once
    hourly: int = 0
    #: so many people inside at once; whoever comes then does not come in. 0: any number
    most_inside: int = 0
    #: whoever is inside one of these journeys, by number, does not come in
    not_while: tuple[int, ...] = ()


@dataclasses.dataclass(frozen=True, slots=True)
class Itinerary:
    """All of a journey that its author decides."""

    #: what brings people in, each by itself
    starts: tuple[Start, ...] = ()
    steps: tuple[Step, ...] = ()
    goal: Goal | None = None
    #: one of AGAIN; for “after” so many days after the last time
    again: str = "once"
    again_days: int = 90
    #: the detail of events by which several times of one person at once are told apart, such as the
    #: number of a case; empty: one at a time
    subject: str = ""
    door: Door = Door()
    #: the highest number that an id of it ever had: none is given twice
    ids: int = 0
    exits: tuple[ExitRule, ...] = ()
    #: whoever withdraws all consent goes on all the same
    stays: bool = False
    #: lanes beside the first one, whose steps are `steps`, and what the first one is called
    beside: tuple[Lane, ...] = ()
    lane_name: str = ""

    @property
    def lanes(self) -> tuple[Lane, ...]:
        """All lanes; the id of the first one is empty."""
        return (Lane("", self.steps, self.lane_name), *self.beside)

    def alone(self, lane: Lane) -> "Itinerary":
        """One lane as a journey of its own: its steps, and what leads there."""
        starts = tuple(one for one in self.starts if one.lane == lane.id)
        return dataclasses.replace(self, starts=starts, steps=lane.steps, beside=())

    def with_steps(
        self, change: Callable[[tuple[Step, ...]], tuple[Step, ...]], lane: str | None = None
    ) -> "Itinerary":
        """With other steps in each lane, or in one of them."""
        return dataclasses.replace(
            self,
            steps=change(self.steps) if lane in (None, "") else self.steps,
            beside=tuple(
                dataclasses.replace(one, steps=change(one.steps)) if lane in (None, one.id) else one
                for one in self.beside
            ),
        )

    def walk(self) -> Iterator[tuple[Step, int, Path | None]]:
        """Every step in the order of its lines, with how deep it is nested and the path it is
        in."""
        for lane in self.lanes:
            yield from _walk(lane.steps, 0, None)

    def on(self) -> "Itinerary":
        """The itinerary as people walk it: without the steps that are switched off."""
        return self.with_steps(_on)

    def messages(self) -> set[int]:
        """Every message that a step of it may send."""
        return {
            message
            for one, _, _ in self.walk()
            if isinstance(one, MessageStep)
            for message in one.messages
        }

    def starting_events(self) -> set[str]:
        """The kinds of event that bring people in, by key."""
        return {one.event for one in self.starts if one.how == "event"}

    def step(self, ident: str) -> Step | None:
        """The step of an id; None where there is none."""
        return next((one for one, _, _ in self.walk() if one.id == ident), None)


def _on(steps: tuple[Step, ...]) -> tuple[Step, ...]:
    """Steps without those that are switched off, also inside of paths."""
    found: list[Step] = []
    for one in steps:
        if one.off:
            continue
        if isinstance(one, Parting):
            paths = tuple(dataclasses.replace(path, steps=_on(path.steps)) for path in one.paths)
            one = dataclasses.replace(one, paths=paths)
        found.append(one)
    return tuple(found)


def _walk(
    steps: tuple[Step, ...], depth: int, inside: Path | None
) -> Iterator[tuple[Step, int, Path | None]]:
    for one in steps:
        yield one, depth, inside
        if isinstance(one, Parting):
            for path in one.paths:
                yield from _walk(path.steps, depth + 1, path)


def messages_before(itinerary: Itinerary) -> dict[str, tuple[int, ...]]:
    """For each step that waits for something the messages that may have gone before it on the way
    there, the nearest ones first."""
    found: dict[str, tuple[int, ...]] = {}
    for lane in itinerary.lanes:
        _note_messages(lane.steps, (), found)
    return found


def _note_messages(
    steps: tuple[Step, ...], before: tuple[int, ...], found: dict[str, tuple[int, ...]]
) -> tuple[int, ...]:
    """Notes what went before each wait among some steps; gives what went before their end."""
    for one in steps:
        if isinstance(one, MessageStep):
            before = tuple(dict.fromkeys((*one.messages, *before)))
        if isinstance(one, WaitForStep):
            found[one.id] = before
        if isinstance(one, Parting):
            ends = [_note_messages(path.steps, before, found) for path in one.paths]
            before = tuple(dict.fromkeys(number for end in ends for number in end))
    return before


def numbered(itinerary: Itinerary) -> dict[str, str]:
    """What each step and path is called in the margin: “4”, its paths “4a”, “4b”, the steps in them
    “4a1”; where there are several lanes behind the letter of theirs: “B4a1”."""
    found: dict[str, str] = {}
    letters = lettered(itinerary)
    for lane in itinerary.lanes:
        _number(lane.steps, letters[lane.id], found)
    return found


def lettered(itinerary: Itinerary) -> dict[str, str]:
    """The letter of each lane; none where there is only one."""
    if not itinerary.beside:
        return {"": ""}
    letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
    return {lane.id: letters[place] for place, lane in enumerate(itinerary.lanes)}


def _number(steps: tuple[Step, ...], before: str, found: dict[str, str]) -> None:
    for place, one in enumerate(steps, 1):
        found[one.id] = name = f"{before}{place}"
        if isinstance(one, Parting):
            for letter, path in zip("abcdefghijklmnopqrstuvwxyz", one.paths, strict=False):
                found[path.id] = f"{name}{letter}"
                _number(path.steps, f"{name}{letter}", found)
