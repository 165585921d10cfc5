"""What lines can ask of a person, as plain values."""

import dataclasses
import datetime as dt
import hashlib
from collections.abc import Mapping, Sequence
from typing import Any

from meadowrun.core.guardrails.verdict import Facts

#: Outcomes under which a mail counts as sent: it left the house.
SENT = ("delivered", "bounced", "in_doubt")


@dataclasses.dataclass(frozen=True, slots=True)
class Happening:
    event: str
    at: dt.datetime
    details: Mapping[str, Any]


@dataclasses.dataclass(frozen=True, slots=True)
class Reacted:
    """`kind` is opened, clicked, replied, unsubscribed, bounced or complained."""

    kind: str
    at: dt.datetime
    link: int | None = None
    machine: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Mail:
    """One message to a person: what it was of, what became of it, and what they did with it."""

    send: int
    message: int | None
    campaign: int
    #: numbers of the tags of its campaign and of the message itself
    tags: Sequence[int]
    outcome: str
    at: dt.datetime | None
    reactions: Sequence[Reacted] = ()
    #: what counted as success, and for how many days
    success: str | None = None
    success_days: int = 7
    channel: str | None = None


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """`values` by field ref; a missing or None value is blank, and so is an empty text."""

    values: Mapping[str, Any]
    events: Sequence[Happening] = ()
    id: int = 0
    company: int | None = None
    #: what was said to a channel (topic 0) or a topic there, by (channel, topic)
    consents: Mapping[tuple[str, int], bool] = dataclasses.field(default_factory=dict)
    lists: frozenset[int] = frozenset()
    mails: Sequence[Mail] = ()
    #: channel → what the verdict needs to know for a message of no topic
    reach: Mapping[str, Facts] = dataclasses.field(default_factory=dict)
    #: numbers of the tags they bear
    tags: frozenset[int] = frozenset()
    #: number of a score → points, as they were last worked out; none where there is none
    scores: Mapping[int, float] = dataclasses.field(default_factory=dict)

    @property
    def zone(self) -> str | None:
        return self.values.get("timezone")


def share_number(person: int, salt: str) -> int:
    """From 0 to 9,999, the same for a person and salt for ever."""
    return (
        int(hashlib.md5(f"{person}:{salt}".encode(), usedforsecurity=False).hexdigest()[:8], 16)
        % 10_000
    )
