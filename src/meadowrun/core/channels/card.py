"""In-app cards, as the rules of the job know them."""

from typing import Any

from meadowrun.core.channels.kind import Kind
from meadowrun.core.content import card
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import Json, new_line

#: Looks where no house style says otherwise: as wide as a phone can show beside its edges.
_LOOKS = {"width": 460, "ground": "#ffffff", "sheet": "#ffffff", "round": 8}


def _take(data: dict[str, Any]) -> Json:
    return take(data | {"plain": None, "text_only": False}) | {
        "channel": "card",
        "card": card.take_card(data.get("card")),
    }


def _begins(_organisation: str, _stop_word: str, looks: Json | None) -> Json:
    lines = [new_line("heading", align="center"), new_line("text", align="center")]
    return empty((looks or {}) | _LOOKS) | {
        "channel": "card",
        "lines": lines,
        "card": card.take_card({}),
    }


KIND = Kind(
    key="card",
    name="in-app card",
    everything="cards on the website",
    one="card",
    several="cards",
    cue=r"\bcards?\b",
    outcomes={
        "no_consent": "Said no to cards",
        "delivered": "Laid ready",
        "waiting": "Still to be laid ready",
    },
    lacks={"no_consent": "said no to them"},
    take=_take,
    begins=_begins,
    checks=card.card_checks,
)
