"""Push notices, as the rules of the job know them."""

from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.channels.sms import taken_as_text
from meadowrun.core.content import push
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import Json


def _take(data: dict[str, Any]) -> Json:
    return taken_as_text(data, "push") | {"push": push.take_push(data.get("push"))}


def _begins(_organisation: str, _stop_word: str, _looks: Json | None) -> Json:
    return empty() | {"channel": "push", "text_only": True, "push": dict(push.EMPTY)}


KIND = Kind(
    key="push",
    name="push notice",
    everything="notices",
    one="notice",
    several="notices",
    cue=r"\b(notices?|push)\b",
    outcomes={
        "no_consent": "No consent for notices",
        "no_address": "No device that allowed notices",
    },
    lacks={
        "no_consent": "did not agree to them",
        "no_address": "without a device that allowed them",
    },
    take=_take,
    begins=_begins,
    checks=push.push_checks,
)
