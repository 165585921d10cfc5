"""How what leaves is made for the gateway of a channel, person by person."""

import dataclasses
import datetime as dt
from collections.abc import Sequence
from typing import Any, NamedTuple

from sqlalchemy import orm

from meadowrun.base import signing
from meadowrun.base.db import Database
from meadowrun.base.settings import Settings
from meadowrun.core.content.compiled import Compiled
from meadowrun.core.content.lines import Json
from meadowrun.core.content.rendering import Rendered


@dataclasses.dataclass(frozen=True, slots=True)
class Parcel:
    """What one batch has in common."""

    database: Database
    settings: Settings
    compiled: Compiled
    #: the edition as it was written, for what a channel has of its own
    document: Json
    #: name and id of what it is about, as mailing lists are named
    about: tuple[str, str]
    #: what mailbox providers tell complaints of one sending apart by
    feedback_id: str
    now: dt.datetime
    #: what people write back comes to us first
    takes_mail: bool = False


class Reader(NamedTuple):
    """One person whom it goes to: the number of the delivery, and the address as it is now."""

    contact_id: int
    number: int
    address: str


@dataclasses.dataclass(frozen=True, slots=True)
class Signs:
    """Who signs: name, address, and where answers go."""

    name: str
    address: str
    reply_to: str


class Hand:
    """Makes what one gateway is handed. A channel overrides what it needs."""

    def __init__(self, parcel: Parcel):
        self.parcel = parcel

    def claimed(self, session: orm.Session, people: Sequence[Reader]) -> None:
        """In the transaction in which people are claimed."""

    def ready(self, people: Sequence[Reader]) -> None:
        """Before the first of them leaves."""

    def values(self, reader: Reader) -> dict[str, Any]:
        """What is filled in besides what is known of everybody."""
        return {}

    def make(self, reader: Reader, tokens: signing.Tokens, mail: Rendered, signs: Signs) -> Any:
        """What the gateway is handed for one person, with the tokens of the delivery."""
        raise NotImplementedError
