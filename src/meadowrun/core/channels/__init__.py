"""The channels, in the order in which they are spoken of. Another one is added by `add`."""

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from meadowrun.core.channels import email, in_app, push, sms
from meadowrun.core.channels.kind import Kind
from meadowrun.core.content.document import DocumentError
from meadowrun.core.content.findings import About, Check
from meadowrun.core.content.lines import Json

KINDS: dict[str, Kind] = {kind.key: kind for kind in (email.KIND, sms.KIND, push.KIND, in_app.KIND)}


def add(kind: Kind) -> None:
    """Adds a channel after the others."""
    KINDS[kind.key] = kind


class _Of(Mapping[str, str]):
    """One word of each channel, by its key."""

    def __init__(self, word: Callable[[Kind], str]):
        self._word = word

    def __getitem__(self, key: str) -> str:
        return self._word(KINDS[key])

    def __iter__(self) -> Iterator[str]:
        return iter(KINDS)

    def __len__(self) -> int:
        return len(KINDS)


#: The channel that is meant where none is named.
USUAL = email.KIND.key

#: channel → what a message of it is called
CHANNELS: Mapping[str, str] = _Of(lambda kind: kind.name)
#: channel → what people get by it, in words that follow “can get” and “agreed to”
CHANNEL_WORDS: Mapping[str, str] = _Of(lambda kind: kind.everything)


def take_for(channel: str, data: Any) -> Json:
    """Checks and cleans a document of a channel that comes from outside. Raises DocumentError."""
    if not isinstance(data, dict):
        raise DocumentError("The message is not an object.")
    return KINDS[channel].take(data)


def beginning(channel: str, organisation: str, stop_word: str, looks: Json | None = None) -> Json:
    """What a new message of a channel begins with; `looks` are the house style's."""
    return KINDS[channel].begins(organisation, stop_word, looks)


def checks_of(channel: str, document: Json, about: About) -> list[Check]:
    """What is wrong with a message of a channel, the gravest first."""
    return KINDS[channel].checks(document, about)
