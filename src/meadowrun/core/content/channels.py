"""A message's document by channel: email has lines, a text message text, a push notice particulars of its own."""

from typing import Any

from meadowrun.core.content.document import DocumentError, empty, take
from meadowrun.core.content.lines import Json
from meadowrun.core.content.push import EMPTY, take_push

#: channel → what it is called
CHANNELS = {"email": "email", "sms": "text message", "push": "push notice"}


def take_for(channel: str, data: Any) -> Json:
    """Checks and cleans a document of a channel that comes from outside. Raises DocumentError."""
    if not isinstance(data, dict):
        raise DocumentError("The message is not an object.")
    if channel == "email":
        return take(data)
    made = take(data | {"lines": [], "code": None, "text_only": True}) | {"channel": channel}
    if channel == "push":
        made["push"] = take_push(data.get("push"))
    return made


def beginning(channel: str, organisation: str, stop_word: str) -> Json:
    """What a new message of a channel other than email begins with."""
    made = empty() | {"channel": channel, "text_only": True}
    if channel == "sms":
        return made | {"plain": f"{organisation}: \n{stop_word} ends these"}
    return made | {"push": dict(EMPTY)}
