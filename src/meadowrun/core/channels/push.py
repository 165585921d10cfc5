"""Push notifications, as the rules of the job know them."""

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
    name="push notification",
    everything="push notifications",
    one="push notification",
    several="push notifications",
    cue=r"\b(notices?|notifications?|push)\b",
    outcomes={
        "no_consent": "No consent for push notifications",
        "no_address": "No device that allows push notifications",
    },
    lacks={
        "no_consent": "did not agree to them",
        "no_address": "without a device that allows them",
    },
    take=_take,
    begins=_begins,
    checks=push.push_checks,
)
