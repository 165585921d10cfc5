"""In-app messages, as the rules of the job know them."""

from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content import in_app
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import Json, new_line

#: Looks where no house style says otherwise: as wide as a phone can show beside its edges.
_LOOKS = {"width": 460, "ground": "#ffffff", "sheet": "#ffffff", "round": 8}


def _take(data: dict[str, Any]) -> Json:
    return take(data | {"plain": None, "text_only": False}) | {
        "channel": "in_app",
        "in_app": in_app.take_in_app(data.get("in_app")),
    }


def _begins(_organisation: str, _stop_word: str, looks: Json | None) -> Json:
    lines = [new_line("heading", align="center"), new_line("text", align="center")]
    return empty((looks or {}) | _LOOKS) | {
        "channel": "in_app",
        "lines": lines,
        "in_app": in_app.take_in_app({}),
    }


KIND = Kind(
    key="in_app",
    name="in-app message",
    everything="in-app messages",
    one="in-app message",
    several="in-app messages",
    cue=r"\b(in[- ]?app|cards?)\b",
    outcomes={
        "no_consent": "Said no to in-app messages",
        "delivered": "Ready to show",
        "waiting": "Still being prepared",
    },
    lacks={"no_consent": "said no to them"},
    take=_take,
    begins=_begins,
    checks=in_app.in_app_checks,
)
