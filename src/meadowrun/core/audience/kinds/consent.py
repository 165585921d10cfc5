"""What somebody said to a channel or a topic; and whether a message could go to them now."""

import datetime as dt
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds.kind import Json, Kind, Reading
from meadowrun.core.audience.nodes import ConsentLine, ReachLine
from meadowrun.core.audience.persons import Person
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.turning import ADDRESSES, CONSENTS, CONTACTS, Turning
from meadowrun.core.channels import CHANNEL_WORDS, USUAL
from meadowrun.core.guardrails.outcomes import words_for
from meadowrun.core.guardrails.verdict import verdict
from meadowrun.core.values import is_whole

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

STATE_WORDS = {"agreed": "agreed to", "refused": "said no to", "unasked": "was never asked about"}


def _channel() -> Json:
    return {"channel": {"enum": list(CHANNEL_WORDS), "default": "email"}}


def consent_about(key: str) -> Json:
    """What a line on consent is about: a topic of email by its number, 0 for all email; a channel;
    or a topic there, as “sms:2”."""
    channel, _, topic = ("email", "", key) if is_whole(key) else key.partition(":")
    return {"topic": int(topic) if is_whole(topic) else 0, "channel": channel}


class ConsentKind(Kind[ConsentLine]):
    key = "consent"
    required = ("state",)
    names = {"topic": "topic"}

    def members(self) -> Json:
        return {
            "topic": {"type": "integer", "minimum": 0},
            "state": {"enum": list(STATE_WORDS)},
            **_channel(),
        }

    def read(self, data: Mapping[str, Any], line: Reading) -> ConsentLine:
        topic, state, channel = data.get("topic", 0), data.get("state"), line.channel(data)
        if state not in tuple(STATE_WORDS):
            raise line.wrong("Somebody agreed, refused, or was never asked.")
        number = 0 if topic == 0 else line.named("topic", topic)
        return ConsentLine(line.ident, number, state, line.off, channel)

    def write(self, node: ConsentLine) -> Json:
        data: Json = {"topic": node.topic, "state": node.state}
        return data | ({"channel": node.channel} if node.channel != USUAL else {})

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {**consent_about(key), "state": "agreed"}

    def holds(self, node: ConsentLine, person: Person, judge: "Judge") -> bool:
        said = person.consents.get((node.channel, node.topic))
        if node.topic and said and person.consents.get((node.channel, 0)) is False:
            # A no to the whole channel outweighs a yes to a topic, as it does when something is
            # sent.
            return False
        return {True: "agreed", False: "refused", None: "unasked"}[said] == node.state

    def looked_at(self, node: ConsentLine, person: Person, judge: "Judge") -> str:
        said = person.consents.get((node.channel, node.topic))
        return {True: "agreed", False: "said no", None: "was never asked"}[said]

    def turning(self, node: ConsentLine, words: Dictionary) -> Turning:
        return Turning(frozenset({CONSENTS}))

    def sentence(
        self, node: ConsentLine, words: Dictionary, today: dt.date, out: bool
    ) -> list[Part]:
        email = node.channel == USUAL
        if node.topic:
            topic = words.name("topic", node.topic) or "?"
            about = topic if email else f"{topic} in {CHANNEL_WORDS[node.channel]}"
        else:
            about = "all email" if email else CHANNEL_WORDS[node.channel]
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", STATE_WORDS[node.state], "state"),
            Part("strong", about, "topic"),
        ]


class ReachKind(Kind[ReachLine]):
    key = "reach"

    def members(self) -> Json:
        return {**_channel(), "can": {"type": "boolean", "default": True}}

    def read(self, data: Mapping[str, Any], line: Reading) -> ReachLine:
        return ReachLine(line.ident, line.channel(data), bool(data.get("can", True)), line.off)

    def write(self, node: ReachLine) -> Json:
        return {"channel": node.channel, "can": node.can}

    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        return {"channel": key, "can": True}

    def holds(self, node: ReachLine, person: Person, judge: "Judge") -> bool:
        return verdict(person.reach[node.channel]).goes == node.can

    def looked_at(self, node: ReachLine, person: Person, judge: "Judge") -> str:
        said = verdict(person.reach[node.channel])
        if said.goes:
            return f"can get {CHANNEL_WORDS[node.channel]}"
        return words_for(node.channel)[said.outcome].lower()

    def turning(self, node: ReachLine, words: Dictionary) -> Turning:
        return Turning(frozenset({CONTACTS, CONSENTS, ADDRESSES}))

    def sentence(self, node: ReachLine, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        return [
            Part("text", "anyone who" if out else "who"),
            Part("word", "can" if node.can else "cannot", "can"),
            Part("text", "get"),
            Part("strong", CHANNEL_WORDS[node.channel], "channel"),
        ]
