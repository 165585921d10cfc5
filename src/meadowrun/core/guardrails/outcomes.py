"""Where a person of an audience can stand, and why: the outcomes, the reasons, and what they are
called."""

import dataclasses
from collections.abc import Mapping
from typing import Any

from meadowrun.core.channels import CHANNEL_WORDS, KINDS
from meadowrun.core.language import Wording


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
    Outcome("waiting", Wording("Waiting"), open=True),
    Outcome("in_hand", Wording("Sending"), open=True),
    Outcome("in_doubt", Wording("In doubt"), open=True),
    Outcome("deferred", Wording("Delayed, retrying"), open=True),
    Outcome("delivered", Wording("Delivered")),
    Outcome("bounced", Wording("Bounced")),
    Outcome("control", Wording("Control group")),
    Outcome("held_out", Wording("Standing control group")),
    Outcome("over_limit", Wording("Over the audience limit")),
    Outcome("duplicate", Wording("Duplicate address")),
    Outcome("had_it", Wording("Already had it")),
    Outcome("no_consent", Wording("No consent for email"), lack=Wording("did not agree to it")),
    Outcome("suppressed", Wording("Suppressed"), lack="suppressed"),
    Outcome("no_address", Wording("No email address"), lack=Wording("without an address")),
    Outcome("bad_address", Wording("Unusable address"), lack=Wording("with an unusable address")),
    Outcome(
        "bounced_before", Wording("Address bounced before"), lack=Wording("whose address bounced")
    ),
    Outcome("not_rendered", Wording("Could not be filled in")),
    Outcome("quiet", Wording("In quiet hours")),
    Outcome("no_room", Wording("No room within the limits")),
    Outcome("left_audience", Wording("No longer in the audience")),
    Outcome("late", Wording("Not sent in time")),
    Outcome("stopped", Wording("Stopped before sending")),
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
    "suppressed": Wording("the address is suppressed"),
    "refused_channel": Wording("said no to all {all}"),
    "refused_topic": Wording("said no to this topic"),
    "never_asked": Wording("was never asked"),
    "paused": Wording("asked for a pause"),
    "no_address": Wording("none is on file"),
    "bad_address": Wording("it cannot be written to as it stands"),
    "bounced": Wording("it is tried again once it is corrected"),
    "repeated_address": Wording("another record with it gets this"),
    "control_group": Wording("qualifies, and is compared with those who get it"),
    "held_out": Wording("gets no marketing for now, and is compared with everybody else"),
    "left_audience": Wording("was no longer in the audience when its turn came"),
    "last_moment": Wording("its last moment passed before it could be sent"),
    "had_before": Wording("it has had this before, and the send is once for each person"),
    "cap": Wording("a message limit is reached"),
    "own_limit": Wording("they asked for no more than this a week"),
    "hours": Wording("it is outside the hours of this send"),
    "quiet_hours": Wording("it is within the quiet hours"),
    "own_clock": Wording("the time has not come on their own clock"),
    "best_hour": Wording("it goes at the hour at which they react most"),
    "portion": Wording("their portion comes later"),
    "passed": Wording("the time had passed on their own clock when it started"),
    "mail_speed": Wording("their mail domain gets only so many an hour"),
    "mail_delays": Wording("their mail server asked us to try again later"),
    "warm_up": Wording("its sender domain is in warm-up, and sends a few more each day"),
    "feed": Wording("a feed does not answer"),
    "gateway": Wording("the gateway asked to try again later"),
}


#: What a fact was, in words: where it held, where it did not, and where it was not known; {all} is
#: all of the channel.
FACTS = {
    "suppressed": (Wording("the address is suppressed"), Wording("not suppressed"), ""),
    "channel_consent": (
        Wording("agreed to all {all}"),
        Wording("said no to all {all}"),
        Wording("was not asked about all {all}"),
    ),
    "consent": (
        Wording("agreed to this topic"),
        Wording("said no to this topic"),
        Wording("was not asked about this topic"),
    ),
    "paused": (Wording("asked for a pause"), Wording("did not ask for a pause"), ""),
    "has_address": (Wording("an address is on file"), Wording("no address is on file"), ""),
    "address_usable": (
        Wording("the address can be written to"),
        Wording("the address cannot be written to as it is"),
        Wording("the address was never checked"),
    ),
    "bounced": (Wording("the address bounced before"), Wording("the address did not bounce"), ""),
    "repeated_address": (Wording("another record has the same address"), "", ""),
    "had_before": (Wording("had it before"), Wording("did not have it before"), ""),
    "too_late": (Wording("its last moment had come"), "", ""),
    "left_audience": (Wording("was not in the audience any more"), "", ""),
    "held_out": (
        Wording("is in the standing control group"),
        Wording("is not in the standing control group"),
        "",
    ),
    "control": (Wording("is in the control group"), "", ""),
}


def fact_words(kept: Mapping[str, Any] | None, channel: str) -> list[str]:
    """The facts that an outcome stood on, as they were then, in words."""
    found = []
    for name, value in (kept or {}).items():
        if name in FACTS:
            held, not_held, unknown = FACTS[name]
            said = unknown if value is None else held if value else not_held
            found.append(said.format(all=CHANNEL_WORDS[channel]) if said else "")
    return [said for said in found if said]


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
        "agreed": Wording("everyone who agreed to it, or to all %(what)s", what=what)
        if topic
        else Wording("everyone who agreed to %(what)s", what=what),
        "not_refused": Wording("everyone who did not say no to it, nor to all %(what)s", what=what)
        if topic
        else Wording("everyone who did not say no to %(what)s", what=what),
        "service": Wording(
            "all of them, whatever they agreed to: it is about something they have, like a booking"
        ),
    }[rule]


def reason_words(kept: Mapping[str, Any] | None, channel: str) -> str:
    """Why a delivery was not sent, or waits, in words, from how it is kept; empty where nothing
    is."""
    because = REASONS.get(str((kept or {}).get("because")), "")
    return because.format(all=CHANNEL_WORDS[channel])
