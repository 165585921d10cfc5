"""Where a person of an audience can stand, and why: the outcomes, the reasons, and what they are
called."""

import dataclasses
from collections.abc import Mapping
from typing import Any

from meadowrun.core.channels import CHANNEL_WORDS, KINDS


@dataclasses.dataclass(frozen=True, slots=True)
class Outcome:
    """One outcome: its key, what it is called on screen, and whether something still happens by
    itself."""

    key: str
    name: str
    open: bool = False
    #: why people of a set cannot be reached, said after how many they are; empty where it cannot be
    #: said of a set
    lack: str = ""


#: Each person stands under exactly one; the order is that of a tally.
TABLE = (
    Outcome("waiting", "Waiting", open=True),
    Outcome("in_hand", "Sending", open=True),
    Outcome("in_doubt", "In doubt", open=True),
    Outcome("deferred", "Delayed, retrying", open=True),
    Outcome("delivered", "Delivered"),
    Outcome("bounced", "Bounced"),
    Outcome("control", "Control group"),
    Outcome("over_limit", "Over the audience limit"),
    Outcome("duplicate", "Duplicate address"),
    Outcome("no_consent", "No consent for email", lack="did not agree to it"),
    Outcome("suppressed", "Suppressed", lack="suppressed"),
    Outcome("no_address", "No email address", lack="without an address"),
    Outcome("bad_address", "Unusable address", lack="with an unusable address"),
    Outcome("bounced_before", "Address bounced before", lack="whose address bounced"),
    Outcome("not_rendered", "Could not be filled in"),
    Outcome("stopped", "Stopped before sending"),
)
OUTCOMES = tuple(one.key for one in TABLE)
#: Outcomes of people for whom something still happens, and those after which nothing more does by
#: itself.
OPEN = frozenset(one.key for one in TABLE if one.open)
FINAL = frozenset(OUTCOMES) - OPEN
#: What each outcome is called on screen.
WORDS = {one.key: one.name for one in TABLE}

#: Why something is not sent, or waits, in words that follow a name; {all} is all of the channel.
#: The outcome is said beside it.
REASONS = {
    "suppressed": "the address is suppressed",
    "refused_channel": "said no to all {all}",
    "refused_topic": "said no to this topic",
    "never_asked": "was never asked",
    "no_address": "none is on file",
    "bad_address": "nothing can be sent to it as it is written",
    "bounced": "it is tried again once it is corrected",
    "repeated_address": "another record with it gets this",
    "control_group": "qualifies, and is compared with those who get it",
    "feed": "a feed has no answer",
    "gateway": "the gateway asked to try again later",
}


def lack_words(channel: str) -> dict[str, str]:
    """Outcome → why people of a set cannot be reached on a channel, said after how many they
    are."""
    return {one.key: one.lack for one in TABLE if one.lack} | dict(KINDS[channel].lacks)


def words_for(channel: str) -> dict[str, str]:
    """What each outcome is called for messages of a channel."""
    return WORDS | dict(KINDS[channel].outcomes)


def rule_words(rule: str, channel: str, topic: bool = False) -> str:
    """Who may get a send by a rule, in words; `topic` is whether it is about one topic."""
    what = CHANNEL_WORDS[channel]
    return {
        "agreed": f"everyone who agreed to it, or to all {what}"
        if topic
        else f"everyone who agreed to {what}",
        "not_refused": f"everyone who did not say no to it, nor to all {what}"
        if topic
        else f"everyone who did not say no to {what}",
        "service": (
            "all of them, whatever they agreed to: it is about something of theirs, like a booking"
        ),
    }[rule]


def reason_words(kept: Mapping[str, Any] | None, channel: str) -> str:
    """Why a delivery was not sent, or waits, in words, from how it is kept; empty where nothing
    is."""
    because = REASONS.get(str((kept or {}).get("because")), "")
    return because.format(all=CHANNEL_WORDS[channel])
