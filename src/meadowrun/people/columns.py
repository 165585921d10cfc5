"""The columns of the table of people: which there are, and which of them a colleague has chosen."""

import dataclasses
from collections.abc import Sequence
from typing import Any

from sqlalchemy import orm

from meadowrun.core.language import Wording
from meadowrun.people import queries
from meadowrun.people.models import Contact
from meadowrun.shell.choices import choice, choose

#: So many columns may stand beside the name.
MOST = 8
#: Under what the choice is kept.
_CHOICE = "columns of people"
#: What is shown of everybody who has chosen nothing, with up to so many fields of the firm's own,
#: of these kinds.
_FIRST, _LAST, _OWN = ("email", "town", "company"), ("created_at",), 2
_SHORT = ("choice", "text", "date", "datetime", "number")
#: Fields of the demo's and most firms' worlds that say most of a person.
_SAYS_MOST = ("membership", "region")


@dataclasses.dataclass(frozen=True, slots=True)
class Column:
    """One column: its key (that of an own field behind “own.”), its head, and the kind of value."""

    key: str
    label: str
    kind: str

    def value(self, contact: Contact, company: str | None) -> Any:
        """What stands in it for a contact of a company."""
        if self.key == "company":
            return company
        if self.key.startswith("own."):
            return contact.attributes.get(self.key.removeprefix("own."))
        if self.key == "created_at":
            return contact.created_at.date().isoformat()
        return getattr(contact, self.key)


_STANDARD = (
    Column("email", Wording("Email address"), "text"),
    Column("phone", Wording("Phone"), "text"),
    Column("town", Wording("Town"), "text"),
    Column("company", Wording("Company"), "text"),
    Column("reference", Wording("Reference number"), "text"),
    Column("language", Wording("Language"), "text"),
    Column("timezone", Wording("Time zone"), "text"),
    Column("created_at", Wording("Added"), "date"),
)


def columns(session: orm.Session) -> list[Column]:
    """Every column that there can be."""
    own = [
        Column(f"own.{field.key}", field.label[:1].upper() + field.label[1:], field.type)
        for field in queries.fields(session, "contact")
    ]
    return [*_STANDARD, *own]


def chosen(session: orm.Session, user_id: int | None) -> list[Column]:
    """The columns that a colleague sees, in order; what was chosen and is gone is left out."""
    every = {one.key: one for one in columns(session)}
    kept = choice(session, user_id, _CHOICE)
    keys = kept if isinstance(kept, list) else _usual(list(every.values()))
    return [every[key] for key in keys if key in every]


def _usual(every: Sequence[Column]) -> list[str]:
    own = [one for one in every if one.key.startswith("own.") and one.kind in _SHORT]
    told = [one for one in own if one.key.removeprefix("own.") in _SAYS_MOST]
    return [*_FIRST, *(one.key for one in (told or own)[:_OWN]), *_LAST]


def keep(session: orm.Session, user_id: int | None, keys: Sequence[str]) -> None:
    """Keeps which columns a colleague sees, MOST at the most, in the order of all of them; none:
    the usual ones again."""
    wanted = set(keys)
    kept = [one.key for one in columns(session) if one.key in wanted][:MOST]
    choose(session, user_id, _CHOICE, kept or None)
