"""What each kind of condition needs besides the core's class: its SQL, and the forms of its
words."""

import dataclasses
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from sqlalchemy import orm
from werkzeug.datastructures import MultiDict

from meadowrun.base import manifest
from meadowrun.core.audience.fields import Dictionary

if TYPE_CHECKING:
    from meadowrun.segments.compile import Compiler

Json = dict[str, Any]
Form = MultiDict[str, str]


@dataclasses.dataclass(frozen=True)
class Condition:
    """One kind of condition in the database and on the page."""

    #: its key among the core's KINDS
    key: str
    #: a line as a predicate over contacts `c`
    sql: Callable[["Compiler", Any], str]
    #: what the template segments/word.html needs to show the form of one word (session, the line's
    #: JSON, the word's slot, the dictionary)
    form: Callable[[orm.Session, Json, str, Dictionary], Json]
    #: the change to a line's JSON that an answered form asks for. Raises DefinitionError with words
    #: for the author.
    patch: Callable[[Json, str, Form, Dictionary], Json]
    #: of countable kinds: a query of (contact_id, at), once for each time it happened
    moments: Callable[["Compiler", Any], str] | None = None


_known: dict[str, Condition] = {}


def condition_of(key: str) -> Condition:
    """The kind of condition of a key, from the features that are loaded."""
    if key not in _known:
        _known.update({one.key: one for one in manifest.conditions()})
    return _known[key]
