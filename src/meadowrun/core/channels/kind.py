"""What the rules of the job know of a channel: its words, and how a message for it begins, is taken
in and is checked."""

import dataclasses
from collections.abc import Callable, Collection, Mapping, Sequence
from typing import Any

from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.gist import Asked, Gist, Taken
from meadowrun.core.content.lines import Json

#: What is suggested for the slots of what is written in lines.
MAIL_PLACES = {slot: slot for slot in ("subject", "preheader", "html", "label", "text")}


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
    #: slot → what is suggested for it, one of core.content.suggest.PLACES
    suggests: Mapping[str, str] = dataclasses.field(default_factory=lambda: MAIL_PLACES)
    #: checks and cleans a document that comes from outside; raises DocumentError
    take: Callable[[dict[str, Any]], Json]
    #: what a new message begins with: of the organisation's name, the word that stops texts, the
    #: house style's looks
    begins: Callable[[str, str, Json | None], Json]
    #: what is wrong with a message, the gravest first
    checks: Callable[[Json, About], list[Check]]
    #: what one says, free of its channel: of the document, its lines with shared parts in their
    #: places, the organisation's name, and a way to ask a condition inside words
    says: Callable[[Json, Sequence[Json], str, Asked], Gist]
    #: a document that says what a message of another channel says
    takes_in: Callable[[Taken], Json]
    #: the types of lines it is written in; none where it is a text
    line_types: Collection[str] = ()
    #: an email: it can begin with a layout or a file, be one of several chosen by a field, needs a
    #: subject to be approved, and passes mail filters and mail apps
    mail: bool = False
    #: its links are as short as they can be, because every character counts
    short_links: bool = False
    #: the longest values that are filled in decide whether it can be carried
    limited: bool = False
    #: it waits for whoever did not say no; nobody is asked before
    agreed_unless_refused: bool = False
