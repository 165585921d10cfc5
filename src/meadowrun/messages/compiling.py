"""The templates of messages, with their shared parts, conditions and pages."""

import dataclasses
import hashlib

import orjson
from sqlalchemy import orm

from meadowrun.base.cache import Cache
from meadowrun.core.content.compiled import Compiled, CompileError, Link, compile_document, placed
from meadowrun.core.content.document import Json
from meadowrun.core.language import Wording
from meadowrun.messages.asking import of_document
from meadowrun.messages.models import Message
from meadowrun.messages.queries import shared_of, to_send


def compiled(
    session: orm.Session, document: Json, public_url: str, tracked: bool = True
) -> Compiled:
    """The templates of a document with its shared parts, or of the messages it chooses from. Raises
    CompileError."""
    chosen = document.get("one_of")
    if not chosen:
        made = _compiled(session, document, public_url, tracked)
        return (
            _with_page(session, made, document["push"]["page"], public_url, tracked)
            if document.get("push", {}).get("tap") == "page"
            else made
        )
    members: dict[str, Compiled] = {}
    links: list[Link] = []
    for value, number in (
        *chosen["values"].items(),
        *([("", chosen["otherwise"])] if chosen["otherwise"] else []),
    ):
        member = session.get(Message, number)
        if member is None or member.document.get("one_of"):
            raise CompileError(
                Wording(
                    "The message for “%(value)s” is gone, or is itself chosen by a field.",
                    value=value or "everyone else",
                )
            )
        made = _compiled(session, member.document, public_url, tracked, len(links))
        members[value] = made
        links += [
            dataclasses.replace(link, label=f"{value or 'else'}: {link.label}")
            for link in made.links
        ]
    first = next(iter(members.values()), None)
    if first is None:
        raise CompileError("No message was chosen for any value.")
    return Compiled(
        first.subject, "", "", tuple(links), (), "", False, None, {}, chosen["field"], members
    )


def _compiled(
    session: orm.Session, document: Json, public_url: str, tracked: bool, first_link: int = 0
) -> Compiled:
    """The templates of one document, with the shared parts and conditions it names. Raises
    CompileError."""
    shared = shared_of(session, document)
    conditions = of_document(session, document, placed(document, shared))
    given = (document, public_url, tracked, sorted(shared.items()), first_link, conditions)
    return _made.made(
        hashlib.sha256(orjson.dumps(given)).digest(),
        lambda: compile_document(document, public_url, tracked, shared, first_link, conditions),
    )


#: Templates by all that they are made from: a page of a journey asks for those of each message.
_made: Cache[Compiled] = Cache(200)


#: Messages are laid out to see what is in them; no address of ours is asked for.
ANYWHERE = "https://here.invalid"


def links_of(session: orm.Session, message: Message) -> dict[str, str]:
    """The links of a message as it would be sent: address → what it is called. None where it cannot
    be laid out."""
    try:
        made = compiled(session, to_send(session, message, "approved"), ANYWHERE)
    except CompileError:
        return {}
    return {link.href: link.label for link in made.links}


def _with_page(
    session: orm.Session, notification: Compiled, number: int, public_url: str, tracked: bool
) -> Compiled:
    """A push notification with the message that a tap on it opens as a page. Raises
    CompileError."""
    page = session.get(Message, number)
    if page is None or page.channel != "email" or page.document.get("one_of"):
        if not tracked:
            # While it is written the push notification itself can be read already.
            return notification
        raise CompileError("The page that a tap opens was not chosen, or is gone.")
    made = _compiled(session, page.document, public_url, tracked, len(notification.links))
    links = tuple(dataclasses.replace(link, label=f"page: {link.label}") for link in made.links)
    return dataclasses.replace(
        notification, links=(*notification.links, *links), members={"page": made}
    )
