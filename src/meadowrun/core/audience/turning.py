"""When the answer of a condition can turn for somebody: what is stored about them that it looks at,
and what time alone does to it."""

import dataclasses
from collections.abc import Iterable
from typing import Final

#: What is stored about people, by what it is kept in. Events are told apart by their kind.
CONTACTS: Final = "contacts"
CONSENTS: Final = "consents"
LISTS: Final = "lists"
TAGS: Final = "tags"
SCORES: Final = "scores"
#: addresses that are not written to, and devices that take push notifications
ADDRESSES: Final = "addresses"
DELIVERIES: Final = "deliveries"
REACTIONS: Final = "reactions"


_EVENT = "event:"


def events_of(kind: int) -> str:
    """The events of one kind, by its number."""
    return f"{_EVENT}{kind}"


def kinds_in(sources: Iterable[str]) -> list[int]:
    """The numbers of the kinds of event among some sources."""
    return sorted(int(one.removeprefix(_EVENT)) for one in sources if one.startswith(_EVENT))


@dataclasses.dataclass(frozen=True, slots=True)
class Turning:
    """When an answer can turn. It turns for nobody of whom nothing in `sources` changed, and to
    whom time does nothing of what is said here."""

    sources: frozenset[str] = frozenset()
    #: it goes by what day it is on a person's own clock
    daily: bool = False
    #: it turns so many days (of 24 hours) after an event of a kind: (number of the kind, days)
    after: frozenset[tuple[int, int]] = frozenset()
    #: whether that is all; else it can turn for somebody by what happens to others, or is set up
    followed: bool = True

    def __or__(self, other: "Turning") -> "Turning":
        return Turning(
            self.sources | other.sources,
            self.daily or other.daily,
            self.after | other.after,
            self.followed and other.followed,
        )


def together(parts: Iterable[Turning]) -> Turning:
    """When any of some answers can turn."""
    whole = Turning()
    for part in parts:
        whole |= part
    return whole
