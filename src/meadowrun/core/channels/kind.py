"""What the rules of the job know of a channel: its words, and how a message for it begins, is taken
in and is checked."""

import dataclasses
from collections.abc import Callable, Mapping
from typing import Any

from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import Json


@dataclasses.dataclass(frozen=True, kw_only=True)
class Kind:
    """A kind of message, and the way by which it reaches people."""

    key: str
    #: what a message is called (“text message”), and all that comes this way, after “can get” and
    #: “agreed to” (“text messages”)
    name: str
    everything: str
    #: one and several of what somebody got, in a condition
    one: str
    several: str
    #: an expression for what a typed sentence calls it; empty for email, which is meant where
    #: nothing is said
    cue: str = ""
    #: outcome → what it is called on this channel, where that is not what it is called elsewhere
    outcomes: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: outcome → why people of a set cannot be reached, said after how many they are
    lacks: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: checks and cleans a document that comes from outside; raises DocumentError
    take: Callable[[dict[str, Any]], Json]
    #: what a new message begins with: of the organisation's name, the word that stops texts, the
    #: house style's looks
    begins: Callable[[str, str, Json | None], Json]
    #: what is wrong with a message, the gravest first
    checks: Callable[[Json, About], list[Check]]
