"""One question: may this go to this person now, and if not, why.

Every message to every person passes `verdict`, whatever sends it; estimates ask the same function, so that a last
look and the sending itself cannot disagree about the rules.
"""

import dataclasses
import itertools

#: Where a person of an audience can stand, each under exactly one; the order is the order of a tally.
OUTCOMES = ("waiting", "in_hand", "in_doubt", "deferred", "delivered", "bounced", "held_back", "over_ceiling", "duplicate",
            "no_consent", "suppressed", "no_address", "bad_address", "bounced_before", "not_rendered", "stopped")
#: Outcomes after which nothing more happens by itself.
FINAL = frozenset(OUTCOMES) - {"waiting", "in_hand", "in_doubt", "deferred"}
#: channel → what people get by it, in words that follow “can get” and “agreed to”
CHANNEL_WORDS = {"email": "email", "sms": "text messages", "push": "notices", "card": "cards on the website"}
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


_BY_CHANNEL = {
    "sms": {"no_consent": "No consent for text messages", "no_address": "No phone number", "bad_address": "Unusable number"},
    "push": {"no_consent": "No consent for notices", "no_address": "No device that allowed notices"},
    "card": {"no_consent": "Said no to cards", "delivered": "Laid ready", "waiting": "Still to be laid ready"},
}
#: Why people of a set cannot be reached, said after how many they are; the order is that of a margin.
_HELD = {"no_consent": "did not agree to it", "suppressed": "suppressed", "no_address": "without an address",
         "bad_address": "with an unusable address", "bounced_before": "whose address bounced"}
_HELD_BY_CHANNEL = {
    "sms": {"no_consent": "did not agree to them", "no_address": "without a phone number", "bad_address": "with an unusable number"},
    "push": {"no_consent": "did not agree to them", "no_address": "without a device that allowed them"},
    "card": {"no_consent": "said no to them"},
}


def held_words(channel: str) -> dict[str, str]:
    """Outcome → why people of a set cannot be reached on a channel, said after how many they are."""
    return _HELD | _HELD_BY_CHANNEL.get(channel, {})


def words_for(channel: str) -> dict[str, str]:
    """What each outcome is called for messages of a channel."""
    return WORDS | _BY_CHANNEL.get(channel, {})


@dataclasses.dataclass(frozen=True, slots=True)
class Facts:
    """What is known about one person at the moment of sending.

    `consent` is True, False or None (not asked) for the message's topic where it has one, else for the channel;
    `channel_consent` is the channel's own: a "no" there outweighs every topic.
    """

    has_address: bool
    address_usable: bool
    suppressed: bool
    bounced: bool
    consent: bool | None
    channel_consent: bool | None
    #: this address already gets this send under another record
    repeated_address: bool = False
    #: of a held-back group: qualifies, and gets nothing, so that those who got it can be compared with somebody
    held: bool = False


#: Who may get a send: those who agreed; those who did not say no; or everyone, since it is about something of theirs.
RULES = ("agreed", "not_refused", "service")


def rule_words(rule: str, channel: str, topic: bool = False) -> str:
    """Who may get a send by a rule, in words; `topic` is whether it is about one topic."""
    what = CHANNEL_WORDS[channel]
    return {"agreed": f"everyone who agreed to it, or to all {what}" if topic else f"everyone who agreed to {what}",
            "not_refused": f"everyone who did not say no to it, nor to all {what}" if topic else f"everyone who did not say no to {what}",
            "service": "all of them, whatever they agreed to: it is about something of theirs, like a booking"}[rule]


def verdict(facts: Facts, rule: str = "agreed") -> str:
    """`"go"`, or the outcome under which the person is held back; `rule` is one of RULES.

    The order states which reason is given when several hold: first what the person asked for (a wish outranks a
    technical reason), then what makes the address unusable, then the guard against doubles. Last comes being held back: only who
    would have got it can be compared with those who did.
    """
    if facts.suppressed:
        return "suppressed"
    if rule != "service" and (facts.channel_consent is False or facts.consent is False):
        return "no_consent"
    if not facts.has_address:
        return "no_address"
    if not facts.address_usable:
        return "bad_address"
    if facts.bounced:
        return "bounced_before"
    if rule == "agreed" and facts.consent is None and facts.channel_consent is not True:
        return "no_consent"
    if facts.repeated_address:
        return "duplicate"
    if facts.held:
        return "held_back"
    return "go"


#: Facts as one number over the columns of a query of facts and `rank`, the place of a record among those with its address. Its
#: digits, by weight: four, and the doubles, of two; then two of three, for yes, no and not asked.
CODE_SQL = ("has_address::int + 2 * coalesce(email_usable, FALSE)::int + 4 * suppressed::int + 8 * bounced::int + 16 * (rank > 1)::int + "
            "32 * coalesce(consent::int + 1, 0) + 96 * coalesce(channel_consent::int + 1, 0)")


def codes_that_go(rule: str) -> list[int]:
    """The numbers, as CODE_SQL makes them, of all facts with which the verdict says "go": so that a query that picks among people
    asks the very same function."""
    asked: tuple[bool | None, ...] = (None, False, True)
    found = []
    for address, usable, suppressed, bounced, again in itertools.product((False, True), repeat=5):
        for (topic, consent), (own, channel) in itertools.product(enumerate(asked), repeat=2):
            if verdict(Facts(address, usable, suppressed, bounced, consent, channel, again), rule) == "go":
                found.append(address + 2 * usable + 4 * suppressed + 8 * bounced + 16 * again + 32 * topic + 96 * own)
    return found
