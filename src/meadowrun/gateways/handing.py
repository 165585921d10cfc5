"""What every gateway has in common: what becomes of one message, and who may leave at this
moment."""

import dataclasses
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Protocol

#: How many may be on their way at once where the gateway can always be asked what became of them.
WHOLE_BATCH = 1_000_000


@dataclasses.dataclass(frozen=True, slots=True)
class Handed:
    """What became of one message: an outcome of the verdict's table, and the gateway's words.

    `waiting` says that it was certainly not taken; `in_doubt` that nobody knows.
    """

    contact_id: int
    outcome: str
    note: str
    #: bounced because of the address itself, which is not written to again until it is corrected
    hard: bool = False

    @property
    def arrived(self) -> bool:
        return self.outcome == "delivered"


#: Asked just before the last byte of some messages leaves: gives those that may still go. Whatever
#: it gives may from
#: then on have arrived, and nothing else.
Begin = Callable[[Sequence[Any]], Sequence[Any]]


def all_may_go(messages: Sequence[Any]) -> Sequence[Any]:
    """For what stands in no claim: proofs, and measurements."""
    return messages


class Gateway(Protocol):
    """How the messages of one channel leave."""

    #: the most messages that are on their way at the same time: only these can be in doubt after a
    #: crash
    at_once: int
    #: whether `took` can answer at all: where it cannot, a person settles doubts
    can_be_asked: bool

    def hand_over(self, messages: Iterable[Any], begin: Begin = all_may_go) -> Iterator[Handed]:
        """Yields one Handed for each message that `begin` let go, or that could not be offered at
        all.

        Raises GatewayUnavailable when nothing more can be handed over: what was not yielded was not
        taken.
        """
        ...

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """For each id whether the gateway took it; absent where that cannot be known now."""
        ...
