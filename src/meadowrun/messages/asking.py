"""Conditions that words inside a text ask: kept when they are written, looked up when a message is
read, checked or sent."""

from collections.abc import Collection, Sequence

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base.errors import Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import asking, fillins
from meadowrun.core.content.document import texts
from meadowrun.core.content.lines import Json
from meadowrun.core.language import Wording
from meadowrun.messages.models import Condition


def keep(session: orm.Session, lines: list[Json], words: Dictionary) -> Condition:
    """The condition that says this, kept where it was not yet. Raises Invalid."""
    try:
        if not d.parse({"lines": lines}, words).lines:
            raise Invalid("Say first who reads these words.", "lines")
    except d.DefinitionError as problem:
        raise Invalid(
            Wording("Who reads these words: %(problem)s", problem=problem), "lines"
        ) from None
    key = asking.key_of(lines)
    session.execute(insert(Condition).values(key=key, lines=lines).on_conflict_do_nothing())
    return session.get_one(Condition, key)


def of(session: orm.Session, keys: Collection[str]) -> dict[str, list[Json]]:
    """The lines of kept conditions; one that is not there is left out."""
    return (
        {
            c.key: c.lines
            for c in session.scalars(sa.select(Condition).where(Condition.key.in_(keys)))
        }
        if keys
        else {}
    )


def of_document(
    session: orm.Session, document: Json, lines: Sequence[Json]
) -> dict[str, list[Json]]:
    """The conditions that the texts of a document name, by key; `lines` are those that count."""
    return of(session, asking.keys(asking.refs(document, lines), lines))


def check(session: orm.Session, document: Json) -> None:
    """Raises Invalid naming "<line>:<slot>" where a text of a document asks what nobody ever
    said."""
    wanted = asking.keys(asking.refs(document, document["lines"]), document["lines"])
    unknown = wanted - of(session, wanted).keys()
    for ident, slot, text in texts(document) if unknown else ():
        if gone := unknown & {ref.removeprefix("when.") for ref in fillins.refs(text)}:
            raise Invalid(
                Wording(
                    "“when.%(min)s” is a condition that does not exist. Take these words out and "
                    "write them again with “only for some”.",
                    min=min(gone),
                ),
                f"{ident}:{slot}",
            )
    if unknown:
        raise Invalid(
            Wording("“when.%(min)s” is a condition that does not exist.", min=min(unknown)), ":"
        )
