"""A message read as somebody, for the pages that show it."""

from typing import Any

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.document import Json
from meadowrun.core.content.filling import CannotRender
from meadowrun.core.content.rendering import Rendered
from meadowrun.core.values import is_whole
from meadowrun.messages import reading
from meadowrun.messages.models import Message
from meadowrun.messages.readership import telling_person
from meadowrun.people.asked import moment, words
from meadowrun.people.models import Contact
from meadowrun.people.queries import anybody
from meadowrun.shell.choices import choice, choose
from meadowrun.shell.request import actor, db, settings


def chosen_person(chosen: str | None) -> Contact | None:
    """The contact of a number that was chosen, else somebody."""
    if chosen and is_whole(chosen):
        found = db().get(Contact, int(chosen))
        if found:
            return found
    return anybody(db())


#: Under what is kept as whom a colleague reads messages: {"person", "segment"}.
_READS_AS = "reads as"


def reader(document: Json) -> Contact | None:
    """As whom a message is shown first: whom the address names, else whom this colleague chose last
    in any message, else somebody who tells most of this one."""
    asked = flask.request.args.get("as")
    if asked:
        return chosen_person(asked)
    kept = _kept().get("person")
    found = db().get(Contact, kept) if isinstance(kept, int) else None
    return found or telling_person(db(), document, words())


def through() -> int:
    """The segment whose people this colleague last stepped through; 0: everyone."""
    kept = _kept().get("segment")
    return kept if isinstance(kept, int) else 0


def keep_reader(person: int, segment: int) -> None:
    """Keeps as whom a colleague reads messages, and through which segment they step."""
    choose(db(), actor().user_id, _READS_AS, {"person": person, "segment": segment})


def _kept() -> dict[str, Any]:
    found = choice(db(), actor().user_id, _READS_AS)
    return found if isinstance(found, dict) else {}


def name_of(person: Contact | None) -> str:
    """What a contact is called where a message is read as them."""
    if person is None:
        return "nobody in particular"
    return (
        " ".join(n for n in (person.first_name, person.last_name) if n)
        or person.email
        or "(no name)"
    )


def rendered(message: Message, person: Contact | None, document: Json | None = None) -> Rendered:
    """What a person would get of a message, or of another draft of it."""
    return read_with_head(message, person, document)[0]


def read_with_head(
    message: Message, person: Contact | None, document: Json | None = None
) -> tuple[Rendered, str]:
    """What a person would get, and the head of its page. Raises Invalid where it cannot be laid
    out."""
    try:
        return reading.read_as(
            moment(), message, document or message.document, person, settings().public_url
        )
    except CompileError as problem:
        raise Invalid(str(problem)) from None
    except CannotRender as problem:
        return Rendered("(nothing)", "", f"{name_of(person)} gets nothing: {problem}."), ""
