"""What a check says of a message, and what it is told about the world the message goes into."""

import dataclasses
import datetime as dt
from collections.abc import Collection, Mapping, Sequence

from meadowrun.core.language import Wording

MUST, SHOULD, COULD = "must", "should", "could"


@dataclasses.dataclass(frozen=True, slots=True)
class Check:
    """A finding; `line` and `slot` say where a click on it leads: on the page that it stands on, or
    in the message of that number."""

    level: str
    text: str
    line: str = ""
    slot: str = ""
    message: int = 0


def must(text: str, line: str = "", slot: str = "", /, **values: object) -> Check:
    """What keeps a message from being sent, with its values as in a `Wording`."""
    return Check(MUST, Wording(text, **values), line, slot)


def should(text: str, line: str = "", slot: str = "", /, **values: object) -> Check:
    """What costs readers or is against a rule."""
    return Check(SHOULD, Wording(text, **values), line, slot)


def could(text: str, line: str = "", slot: str = "", /, **values: object) -> Check:
    """What would be better."""
    return Check(COULD, Wording(text, **values), line, slot)


@dataclasses.dataclass(frozen=True)
class About:
    """What a message is checked against.

    `known` are the refs that exist (`contact.town`, `table.prices.student`); `facts` those of the
    campaign, None when no campaign is known yet; `blanks` counts, by (line, slot, ref), for how
    many of a place's readers a ref is blank, and these readers; `weights` are the bytes of pictures
    in the store, by address; `hours` those in which it will go, as (first, last), where that is
    known.
    """

    known: Collection[str] = ()
    facts: Collection[str] | None = None
    blanks: Mapping[tuple[str, str, str], tuple[int, int]] = dataclasses.field(default_factory=dict)
    html_bytes: int = 0
    feeds: Collection[str] = ()
    weights: Mapping[str, int] = dataclasses.field(default_factory=dict)
    hours: tuple[int, int] | None = None
    #: the key of an “only if” version, or of words by condition, whose condition cannot be used →
    #: why
    broken: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: rows that exist, as (row, version)
    shared: Collection[tuple[int, int]] = ()
    #: what is known by the day → for how many, in words; on other days it is blank for everyone
    dated: Mapping[str, str] = dataclasses.field(default_factory=dict)
    #: what the event says because of which it is sent, by key; None where nobody asked
    details: Collection[str] | None = None
    #: kinds of event that exist, by key; None where nobody asked
    events: Collection[str] | None = None
    #: the day it is, for dates that have passed; None where nobody asked
    today: dt.date | None = None
    #: where the organisation can be written to, which messages have to say; empty: unknown
    postal_address: str = ""
    #: addresses of the pictures in the store, of those that the message names; None where nobody
    #: asked
    stored: Collection[str] | None = None
    #: the longest values that fields really have, by ref
    longest: Mapping[str, Sequence[str]] = dataclasses.field(default_factory=dict)
