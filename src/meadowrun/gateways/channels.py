"""What every part of the application knows of a channel, said in one place: a module of `channels`
holds CHANNEL.

What lies below that package learns of the channels from here alone, so that adding one is adding a
module.
"""

import dataclasses
import datetime as dt
from collections.abc import Callable, Mapping
from typing import Any

from meadowrun.base.db import Database
from meadowrun.base.manifest import Tried
from meadowrun.base.settings import Settings
from meadowrun.core import channels
from meadowrun.core.channels.kind import Kind
from meadowrun.gateways.handing import Gateway


@dataclasses.dataclass(frozen=True, kw_only=True)
class Channel:
    """A channel: what the verdict must know, where the address is, how it leaves, and how it is
    spoken of. SQL is over contacts `c`."""

    kind: Kind
    #: a query of what the verdict asks about everybody, with places for {topic}, {columns} (from a
    #: comma on) and {join}
    facts: str
    #: the same as one condition, for a message of no topic; {agreed} and {unless} stand for consent
    #: given and not refused
    can: str
    #: of whom the facts must be asked, when most people have no part in the channel, and the
    #: verdict on all others; empty: of everyone
    concerned: str = ""
    otherwise: str = "go"
    #: the address, and what is equal on two records with the same one
    address: str
    same_address: str
    #: takes what leaves by the dispatch of a number from a moment on
    gateway: Callable[[Database, Settings, int, dt.datetime], Gateway]
    #: whether it can be asked what it took, and what it knows a message by, of the delivery's key
    can_be_asked: Callable[[Settings], bool]
    asked_by: Callable[[Settings, str], str] = lambda settings, key: key
    #: what is wrong with the gateway now, and what is said where nothing is
    problem: Callable[[Settings], str | None] = lambda settings: None
    #: looks closer at it, where that takes longer; and the setting that names it
    look: Callable[[Settings], Tried] | None = None
    setting: str = ""
    there: str
    #: whose log tells what became of what was handed over
    server: str = "gateway"
    #: makes what the gateway is handed: a class of `channels.hand`
    hand: Callable[..., Any]
    #: makes proofs: a class of `channels.proof`
    prover: Callable[..., Any]
    #: who signs is chosen for each send
    signed: bool = False
    #: whom it is from, where nobody signs
    sent_from: Callable[[Settings], str] = lambda settings: ""
    #: whether an installation means to use it, by its settings
    wanted: Callable[[Settings], bool] = lambda settings: True
    #: how fast it leaves follows the mail domains it is from and goes to
    paced: bool = False
    #: an address that bounces is not written to again until it is corrected
    strikes_off: bool = False
    #: what of a person's reactions can be seen, in the order of the way to success, each with what
    #: it is called
    steps: Mapping[str, str]
    #: how it came, behind the name of a send (“by text”), and one of it (“the text”)
    by: str = ""
    one: str
    #: one of it with its article (“a text message”)
    a: str
    #: who of a topic gets it, where that is not chosen for each send
    may: str = ""
    #: when people see it, where it does not come to them
    shown: str = ""
    #: people can unsubscribe in it, and complain of it
    can_be_left: bool = False
    #: what was handed over waits, and can be taken away again
    waits_there: bool = False
    #: how long after it could have gone a message, by its document, is still of use; None: for as
    #: long as it waits
    life: Callable[[Mapping[str, Any]], dt.timedelta | None] = lambda document: None
    #: what its checks looked at, said when nothing was found
    checked: str = "Text, links and fill-ins are in order."
    #: an attribute of a contact that says where it goes
    shown_address: str = "email"
    #: whether somebody of whom it is not known yet what they want is asked about it: of a session
    #: and a contact
    concerns: Callable[[Any, Any], bool] = lambda session, contact: False
    #: the page on which it is written, with `ident`
    editor: str


#: The channels by their keys, in their order.
CHANNELS: dict[str, Channel] = {}


def add(channel: Channel) -> None:
    """Adds a channel after the others."""
    channels.add(channel.kind)
    CHANNELS[channel.kind.key] = channel
