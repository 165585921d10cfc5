"""A message read as somebody, for the pages that show it."""

from meadowrun.base.errors import Invalid
from meadowrun.core.content.compiled import CompileError, Rendered
from meadowrun.core.content.document import Json
from meadowrun.core.content.filling import CannotRender
from meadowrun.core.values import is_whole
from meadowrun.messages import reading
from meadowrun.messages.models import Message
from meadowrun.people.asked import moment
from meadowrun.people.models import Contact
from meadowrun.people.queries import anybody
from meadowrun.shell.request import db, settings


def chosen_person(chosen: str | None) -> Contact | None:
    """The contact of a number that was chosen, else somebody."""
    if chosen and is_whole(chosen):
        found = db().get(Contact, int(chosen))
        if found:
            return found
    return anybody(db())


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
