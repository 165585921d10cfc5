"""A definition that goes from one installation to another: what it names by number there is found
by its name here."""

import copy
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from meadowrun.core.audience.definition import DefinitionError
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.kinds.mail import NAMED_BY
from meadowrun.core.language import Wording


def _references(lines: Sequence[Any]) -> Iterator[tuple[dict[str, Any], str, str, str]]:
    """Whatever lines name by number: the object that holds the number, its member, the kind of
    thing, and the line's id."""
    for line in lines:
        if not isinstance(line, dict):
            continue
        ident = str(line.get("id", ""))
        known = KINDS.get(str(line.get("kind")))
        for member, kind in known.names.items() if known else ():
            # A topic of 0 is all email.
            if isinstance(line.get(member), int) and (kind != "topic" or line[member]):
                yield line, member, kind, ident
        of = line.get("of")
        if isinstance(of, dict):
            yield from (
                (of, kind, kind, ident) for kind in NAMED_BY if isinstance(of.get(kind), int)
            )
        if isinstance(line.get("lines"), list):
            yield from _references(line["lines"])


def names(lines: Sequence[Any], words: Dictionary) -> dict[str, dict[str, str]]:
    """The names of everything that lines name by number: kind → number as text → name."""
    found: dict[str, dict[str, str]] = {}
    for holder, member, kind, _ in _references(lines):
        name = words.name(kind, holder[member])
        if name is not None:
            found.setdefault(kind, {})[str(holder[member])] = name
    return found


def at_home(lines: Sequence[Any], known: Mapping[str, Any], words: Dictionary) -> list[Any]:
    """The lines with the numbers that their `names` from elsewhere have here. What came without a
    name keeps its number.

    Raises DefinitionError for a name that nothing has here.
    """
    made = copy.deepcopy(list(lines))
    for holder, member, kind, ident in _references(made):
        given = known.get(kind)
        name = given.get(str(holder[member])) if isinstance(given, Mapping) else None
        if name is None or words.name(kind, holder[member]) == name:
            continue
        here = next(
            (number for number, own in words.named.get(kind, {}).items() if own == name), None
        )
        if here is None:
            raise DefinitionError(
                Wording(
                    "There is no %(kind)s called “%(name)s” here. Make it first, then import this "
                    "again.",
                    kind=kind,
                    name=name,
                ),
                ident,
            )
        holder[member] = here
    return made
