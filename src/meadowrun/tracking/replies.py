"""What people write back: recorded as a reaction, and passed on to whoever signed the email.

Replies of programs, such as notes of absence, are recorded as such and passed on to nobody.
"""

import datetime as dt
from email.message import Message

from sqlalchemy import orm

from meadowrun.messages.senders import Sender
from meadowrun.outgoing.models import Delivery, Dispatch
from meadowrun.outgoing.queries import numbered
from meadowrun.tracking import actions

#: What has gone through so many servers goes in a circle.
MOST_HOPS = 30


def by_program(message: Message) -> str:
    """Why a program seems to have replied, not a person; nothing for a person (RFC 3834, 2 and
    5)."""
    if str(message.get("Auto-Submitted", "no")).split(";")[0].strip().lower() != "no":
        return "it says that it was sent automatically"
    if str(message.get("Precedence", "")).strip().lower() in ("bulk", "junk", "list", "auto_reply"):
        return "it says that it is not a personal email"
    if message.get("X-Autoreply") or message.get("X-Autorespond"):
        return "it says that it is an automatic reply"
    if str(message.get("Return-Path", "")).strip() == "<>":
        return "nobody can be answered at its return path"
    return ""


def goes_round(message: Message) -> bool:
    """Whether an email has passed so many servers that it must be going in a circle."""
    return len(message.get_all("Received", [])) > MOST_HOPS


def take(
    session: orm.Session, now: dt.datetime, number: int, contact_id: int, message: Message
) -> str | None:
    """Records a reply to a delivery. Gives the address that it is passed on to; None: nobody."""
    delivery = numbered(session, number, contact_id)
    if delivery is None:
        return None
    why = by_program(message)
    actions.react(session, now, number, contact_id, "replied", machine=bool(why), note=why)
    return None if why else _desk(session, delivery)


def _desk(session: orm.Session, delivery: Delivery) -> str | None:
    """Who gets replies to a delivery: the person's own desk contact who signed it, else the reply
    address of its sender."""
    dispatch = session.get_one(Dispatch, delivery.dispatch_id)
    sender = session.get(Sender, dispatch.sender_id) if dispatch.sender_id else None
    if sender is None:
        return None
    filled = delivery.filled or {}
    own = filled.get(sender.address_ref) if sender.address_ref else None
    if own and filled.get(sender.name_ref):
        return str(own)
    return sender.reply_to or sender.address
