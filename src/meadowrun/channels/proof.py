"""Proofs: a message really handed over to colleagues, as chosen people; marked, and never counted.

The way is the same for every channel (outgoing/proofs.py); a channel says where a proof of it goes
and what is handed over.
"""

import dataclasses
import datetime as dt
import re
from collections.abc import Mapping
from typing import Any

from sqlalchemy import orm

from meadowrun.base.settings import Settings
from meadowrun.core.content.rendering import Rendered
from meadowrun.gateways.handing import Gateway
from meadowrun.messages.models import Message

#: What a proof is marked with, before its subject or text.
MARK = "[Proof]"


@dataclasses.dataclass(frozen=True, slots=True)
class Asked:
    """What somebody asks for: proofs of the newest draft of a message, by an answered form."""

    session: orm.Session
    settings: Settings
    now: dt.datetime
    message: Message
    form: Mapping[str, str]


@dataclasses.dataclass(frozen=True, slots=True)
class Copy:
    """The message as one person would get it."""

    mail: Rendered
    #: the person's number; 0 for nobody in particular
    person: int
    #: what it is marked with: whose it is, where there are several
    mark: str


class Prover:
    """How a channel makes proofs. A channel overrides what it needs."""

    #: what a proof goes to, one and several
    one, several = "address", "addresses"

    def __init__(self, asked: Asked):
        self.asked = asked

    def targets(self) -> list[str]:
        """Where the proofs go, as typed. Raises Invalid naming what cannot be."""
        raise NotImplementedError

    def make(self, place: int, key: str, to: str, copy: Copy) -> Any:
        """What the gateway is handed for one target; `place` is its contact number there."""
        raise NotImplementedError

    def gateway(self) -> Gateway:
        """What takes the proofs."""
        raise NotImplementedError

    def shown_at(self) -> str:
        """The address at which a proof stands afterwards; empty where it was sent to somebody."""
        return ""


def typed(text: str) -> list[str]:
    """What was typed, separated by commas, semicolons or lines; each once."""
    return list(dict.fromkeys(one.strip() for one in re.split(r"[,;\n]", text) if one.strip()))
