"""What to do first in a new installation, each with whether it is done."""

import dataclasses
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.settings import Settings
from meadowrun.core.language import Wording
from meadowrun.messages.models import Message
from meadowrun.messages.senders import Sender
from meadowrun.people.models import Contact, Topic
from meadowrun.readiness.looking import standing
from meadowrun.sends.models import Send
from meadowrun.shell.models import User


@dataclasses.dataclass(frozen=True, slots=True)
class First:
    """One thing to do first: what it is, why, the endpoint where it is done, and whether it is."""

    what: Wording
    why: Wording
    endpoint: str
    done: bool


def first_steps(session: orm.Session, settings: Settings) -> list[First]:
    """Everything to do first, in order; nothing once all of it is done, and nothing in a demo."""
    if settings.demo:
        return []
    tried = [
        one.found for one in standing(session, settings) if one.probe.key.startswith(_OF_EMAIL)
    ]
    colleagues = session.scalar(sa.select(sa.func.count()).where(User.active)) or 0
    found = [
        First(
            Wording("Say who emails are from"),
            Wording("A name and an address that people know, with where replies go."),
            "sends.senders_page",
            _any(session, sa.select(Sender.id)),
        ),
        First(
            Wording("Try whether emails arrive"),
            Wording("The mail server, and what your domain publishes, so that others take them."),
            "readiness.show",
            bool(tried) and all(one is not None and one.ok for one in tried),
        ),
        First(
            Wording("Give your postal address"),
            Wording(
                "Many countries ask for it in each email. Whoever runs the server sets it: "
                "MEADOWRUN_POSTAL_ADDRESS."
            ),
            "readiness.show",
            bool(settings.postal_address),
        ),
        First(
            Wording("Name what people can subscribe to"),
            Wording("Such as a newsletter: people say yes or no to each topic by itself."),
            "sends.senders_page",
            _any(session, sa.select(Topic.id)),
        ),
        First(
            Wording("Add your colleagues"),
            Wording("Who writes, who approves, and who only looks."),
            "colleagues.table",
            colleagues > 1,
        ),
        First(
            Wording("Import your contacts"),
            Wording("From a file, with a preview before anything changes."),
            "imports.start",
            _any(session, sa.select(Contact.id)),
        ),
        First(
            Wording("Write a message"),
            Wording("Begin with nothing or with a layout, and send yourself a proof of it."),
            "messages.new",
            _any(session, sa.select(Message.id)),
        ),
        First(
            Wording("Send it"),
            Wording("You check everything on one page before it goes."),
            "beginning.new",
            _any(session, sa.select(Send.id).where(Send.taken_at.is_not(None))),
        ),
    ]
    return [] if all(one.done for one in found) else found


#: How the keys begin of what has to be set up for emails.
_OF_EMAIL = ("gateway:email", "mx:", "spf:", "dkim:", "dmarc:")


def _any(session: orm.Session, asked: "sa.Select[Any]") -> bool:
    return session.scalar(asked.limit(1)) is not None
