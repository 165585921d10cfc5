"""One question: may this go to this person now, and if not, why.

Every message to every person passes `verdict`, whatever sends it; estimates ask the same guards in
SQL, so that a last look and the sending itself cannot disagree about the rules.
"""

import dataclasses
import datetime as dt
import functools
from typing import Any, NamedTuple

from meadowrun.core.guardrails.guards import GUARDS, RULES, Facts

__all__ = ["GO", "RULES", "Facts", "NoRoom", "Verdict", "Wait", "not_before", "verdict"]

#: Until when somebody waits, and for which of REASONS.
Wait = tuple[dt.datetime, str]


class NoRoom(NamedTuple):
    """Message limits leave somebody no room: until when, and for which of REASONS. It is not
    certain while another message is due that comes before theirs and may not go after all."""

    until: dt.datetime
    because: str
    certain: bool


@dataclasses.dataclass(frozen=True, slots=True)
class Verdict:
    """What becomes of a message to one person now: it goes, it waits until a moment, or it is not
    sent; because of what, which stood on which facts."""

    #: go, waiting, or the outcome under which it is not sent
    outcome: str
    #: one of REASONS; empty for what goes
    because: str = ""
    #: for what waits: the first moment at which it is judged again
    until: dt.datetime | None = None
    #: the facts that the guard asked about, with their values at this moment
    stood_on: tuple[tuple[str, bool | None], ...] = ()

    @property
    def goes(self) -> bool:
        return self.outcome == "go"

    def to_json(self) -> dict[str, Any]:
        """As it is kept with a delivery: {"because": reason, fact: value, …}."""
        return {"because": self.because, **dict(self.stood_on)}


GO = Verdict("go")


@functools.lru_cache(maxsize=4096)
def verdict(facts: Facts, rule: str = "agreed") -> Verdict:
    """What becomes of a message to a person by the first guard that stops it; `rule` is one of
    RULES. There are fewer kinds of people than people: what was said of one is kept."""
    for guard in GUARDS:
        if rule in guard.rules and guard.stops(facts):
            return Verdict(
                guard.outcome,
                guard.reason,
                None,
                tuple((name, getattr(facts, name)) for name in sorted(guard.asks)),
            )
    return GO


def not_before(until: dt.datetime, because: str) -> Verdict:
    """It waits until a moment, and is judged again then."""
    return Verdict("waiting", because, until)
