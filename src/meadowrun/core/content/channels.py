"""A message's document by channel: email and a card have lines, a text message text, a push notice particulars of its own."""

from typing import Any

from meadowrun.core.content import card, push
from meadowrun.core.content.checks import checks
from meadowrun.core.content.document import DocumentError, empty, take
from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import Json, new_line
from meadowrun.core.content.sms import sms_checks

#: channel → what it is called
CHANNELS = {"email": "email", "sms": "text message", "push": "push notice", "card": "in-app card"}
#: Looks of a card where no house style says otherwise: as wide as a phone can show beside its edges.
_CARD_LOOKS = {"width": 460, "ground": "#ffffff", "sheet": "#ffffff", "round": 8}


def take_for(channel: str, data: Any) -> Json:
    """Checks and cleans a document of a channel that comes from outside. Raises DocumentError."""
    if not isinstance(data, dict):
        raise DocumentError("The message is not an object.")
    if channel == "email":
        return take(data)
    if channel == "card":
        return take(data | {"plain": None, "text_only": False}) | {"channel": channel, "card": card.take_card(data.get("card"))}
    made = take(data | {"lines": [], "code": None, "text_only": True}) | {"channel": channel}
    if channel == "push":
        made["push"] = push.take_push(data.get("push"))
    return made


def beginning(channel: str, organisation: str, stop_word: str, looks: Json | None = None) -> Json:
    """What a new message of a channel other than email begins with; `looks` are the house style's."""
    if channel == "card":
        lines = [new_line("heading", align="center"), new_line("text", align="center")]
        return empty((looks or {}) | _CARD_LOOKS) | {"channel": channel, "lines": lines, "card": card.take_card({})}
    made = empty() | {"channel": channel, "text_only": True}
    if channel == "sms":
        return made | {"plain": f"{organisation}: \n{stop_word} ends these"}
    return made | {"push": dict(push.EMPTY)}


def checks_of(channel: str, document: Json, about: About) -> list[Check]:
    """What is wrong with a message of a channel, the gravest first."""
    if channel == "push":
        return push.push_checks(document, about)
    if channel == "card":
        return card.card_checks(document, about)
    return sms_checks(document, about, str(document.get("plain") or "")) if channel == "sms" else checks(document, about)
