"""Text messages, as the rules of the job know them."""

from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import Json
from meadowrun.core.content.sms import sms_checks


def taken_as_text(data: dict[str, Any], channel: str) -> Json:
    """A document that is a text alone. Raises DocumentError."""
    return take(data | {"lines": [], "code": None, "text_only": True}) | {"channel": channel}


def _take(data: dict[str, Any]) -> Json:
    return taken_as_text(data, "sms")


def _begins(organisation: str, stop_word: str, _looks: Json | None) -> Json:
    return empty() | {
        "channel": "sms",
        "text_only": True,
        "plain": f"{organisation}: \n{stop_word} ends these",
    }


def _checks(document: Json, about: About) -> list[Check]:
    return sms_checks(document, about, str(document.get("plain") or ""))


KIND = Kind(
    key="sms",
    name="text message",
    everything="text messages",
    one="text message",
    several="text messages",
    cue=r"\b(sms|texts?|texted)\b",
    outcomes={
        "no_consent": "No consent for text messages",
        "no_address": "No phone number",
        "bad_address": "Unusable number",
    },
    lacks={
        "no_consent": "did not agree to them",
        "no_address": "without a phone number",
        "bad_address": "with an unusable number",
    },
    take=_take,
    begins=_begins,
    checks=_checks,
)
