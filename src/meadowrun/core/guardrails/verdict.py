"""One question: may this go to this person now, and if not, why.

Every message to every person passes `verdict`, whatever sends it; estimates ask the same guards in SQL, so that a last look and the
sending itself cannot disagree about the rules.
"""

import dataclasses
import datetime as dt
import functools
from collections.abc import Mapping
from typing import Any

from meadowrun.core.channels import CHANNEL_WORDS, KINDS
from meadowrun.core.guardrails.guards import GUARDS, REASONS, RULES, Facts

__all__ = ["FINAL", "GO", "OUTCOMES", "RULES", "WORDS", "Facts", "Verdict", "held_words", "not_before", "reason_words",
           "rule_words", "verdict", "words_for"]

#: Where a person of an audience can stand, each under exactly one; the order is the order of a tally.
OUTCOMES = ("waiting", "in_hand", "in_doubt", "deferred", "delivered", "bounced", "held_back", "over_ceiling", "duplicate",
            "no_consent", "suppressed", "no_address", "bad_address", "bounced_before", "not_rendered", "stopped")
#: Outcomes after which nothing more happens by itself.
FINAL = frozenset(OUTCOMES) - {"waiting", "in_hand", "in_doubt", "deferred"}
#: What each outcome is called on screen.
WORDS = {
    "waiting": "Still to go",
    "in_hand": "Being handed over",
    "in_doubt": "In doubt",
    "deferred": "Asked to come again later",
    "delivered": "Delivered",
    "bounced": "Bounced",
    "held_back": "Kept back to compare",
    "over_ceiling": "Over the ceiling",
    "duplicate": "Same address twice",
    "no_consent": "No consent for email",
    "suppressed": "Suppressed",
    "no_address": "No email address",
    "bad_address": "Unusable address",
    "bounced_before": "Address bounced before",
    "not_rendered": "Could not be filled in",
    "stopped": "Stopped before it went",
}

#: Why people of a set cannot be reached, said after how many they are; the order is that of a margin.
_HELD = {"no_consent": "did not agree to it", "suppressed": "suppressed", "no_address": "without an address",
         "bad_address": "with an unusable address", "bounced_before": "whose address bounced"}


def held_words(channel: str) -> dict[str, str]:
    """Outcome → why people of a set cannot be reached on a channel, said after how many they are."""
    return _HELD | dict(KINDS[channel].lacks)


def words_for(channel: str) -> dict[str, str]:
    """What each outcome is called for messages of a channel."""
    return WORDS | dict(KINDS[channel].outcomes)


def rule_words(rule: str, channel: str, topic: bool = False) -> str:
    """Who may get a send by a rule, in words; `topic` is whether it is about one topic."""
    what = CHANNEL_WORDS[channel]
    return {"agreed": f"everyone who agreed to it, or to all {what}" if topic else f"everyone who agreed to {what}",
            "not_refused": f"everyone who did not say no to it, nor to all {what}" if topic else f"everyone who did not say no to {what}",
            "service": "all of them, whatever they agreed to: it is about something of theirs, like a booking"}[rule]


@dataclasses.dataclass(frozen=True, slots=True)
class Verdict:
    """What becomes of a message to one person now: it goes, it waits until a moment, or it is not sent; because of what, which stood on
    which facts."""

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
    """What becomes of a message to a person by the first guard that stops it; `rule` is one of RULES. There are fewer kinds of people
    than people: what was said of one is kept."""
    for guard in GUARDS:
        if rule in guard.rules and guard.stops(facts):
            return Verdict(guard.outcome, guard.reason, None, tuple((name, getattr(facts, name)) for name in sorted(guard.asks)))
    return GO


def not_before(until: dt.datetime, because: str) -> Verdict:
    """It waits until a moment, and is judged again then."""
    return Verdict("waiting", because, until)


def reason_words(kept: Mapping[str, Any] | None, channel: str) -> str:
    """Why a delivery was not sent, or waits, in words, from how it is kept; empty where nothing is."""
    because = REASONS.get(str((kept or {}).get("because")), "")
    return because.format(all=CHANNEL_WORDS[channel])
