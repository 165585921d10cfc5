"""The lines a segment is made of, as frozen values. What each kind can do is in kinds/."""

import dataclasses
import datetime as dt
from collections.abc import Iterator
from typing import Any, ClassVar, Protocol


class Node(Protocol):
    """A line, of whatever kind: `kind` is its key in KINDS, and a line that is `off` is kept but
    does not count."""

    @property
    def id(self) -> str: ...

    @property
    def kind(self) -> str: ...

    @property
    def off(self) -> bool: ...


@dataclasses.dataclass(frozen=True, slots=True)
class FieldLine:
    """A field of the contact, or of their company, compared with a value."""

    kind: ClassVar[str] = "field"
    id: str
    field: str
    op: str
    value: Any = None
    #: how text is compared: "letters" (capitals do not matter), "loose" (nor do accents and
    #: spaces), "exact"
    compare: str = "letters"
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Detail:
    detail: str
    op: str
    value: Any = None


@dataclasses.dataclass(frozen=True, slots=True)
class Span:
    """When: the last N calendar days up to now, or from a day to a day (both inclusive), or
    ever."""

    last: int | None = None
    first: dt.date | None = None
    until: dt.date | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Total:
    """What a number among the details must add up to, over every fitting event: more_than,
    at_least, less_than or at_most."""

    detail: str
    op: str
    value: float


@dataclasses.dataclass(frozen=True, slots=True)
class Then:
    """What must, or must not, have followed within so many days (of 24 hours) after a fitting
    event."""

    event: str
    did: bool
    days: int


@dataclasses.dataclass(frozen=True, slots=True)
class EventLine:
    kind: ClassVar[str] = "event"
    id: str
    event: str
    did: bool = True
    #: at_least, exactly or at_most so many times
    times_op: str = "at_least"
    times: int = 1
    span: Span = Span()
    where: tuple[Detail, ...] = ()
    #: "any", or the "first" or "latest" fitting event ever lies within the span
    which: str = "any"
    total: Total | None = None
    then: Then | None = None
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class MailLine:
    """Something we sent, on whatever channel, and the outcome."""

    kind: ClassVar[str] = "mail"
    id: str
    what: str
    did: bool = True
    #: which message: ("any", None), or message, campaign, send, tag (a number) or channel (a text)
    of: tuple[str, int | str | None] = ("any", None)
    #: for "clicked", the number of one link of a message
    link: int | None = None
    #: at least so many different sends
    times: int = 1
    span: Span = Span()
    #: for "did not": only those who were sent one ("sent"), or everyone
    among: str = "sent"
    #: only the last so many of these that a person was sent, instead of a span
    latest: int | None = None
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ConsentLine:
    """What somebody said to a channel (topic 0) or to one topic there: agreed, refused, or
    unasked."""

    kind: ClassVar[str] = "consent"
    id: str
    topic: int
    state: str
    off: bool = False
    channel: str = "email"


@dataclasses.dataclass(frozen=True, slots=True)
class ReachLine:
    """Whether a message of no particular topic could go to them now on a channel."""

    kind: ClassVar[str] = "reach"
    id: str
    channel: str
    can: bool = True
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class SetLine:
    """Being in a list, in another segment, or in a group of a grouping, or having a tag or one
    under it; `kind` is list, segment, grouping or tag."""

    id: str
    kind: str
    of: int
    inside: bool = True
    #: the group's key
    group: str = ""
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ScoreLine:
    """How much a score was when it was last worked out: more_than, at_least, less_than or at_most
    so many points."""

    kind: ClassVar[str] = "score"
    id: str
    of: int
    op: str
    value: float
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class ShareLine:
    """A steady share picked by chance: the same people every time for the same salt."""

    kind: ClassVar[str] = "share"
    id: str
    percent: float
    salt: str
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Group:
    """`match` is all, any or none of the lines; or "colleagues": somebody of the same company
    matches all of them."""

    kind: ClassVar[str] = "group"
    id: str
    match: str
    lines: tuple[Node, ...]
    off: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Definition:
    lines: tuple[Node, ...] = ()

    def walk(self) -> Iterator[Node]:
        """Every node, parents before children."""
        stack: list[Node] = list(reversed(self.lines))
        while stack:
            node = stack.pop()
            yield node
            if isinstance(node, Group):
                stack.extend(reversed(node.lines))
