"""Steps that are kept as a pattern under a name, and put into any journey from there."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import Base, existing
from meadowrun.base.errors import Invalid
from meadowrun.core.journeys.edit import run_from
from meadowrun.core.journeys.reading import from_json, to_json
from meadowrun.core.journeys.steps import Itinerary, JumpStep, Step
from meadowrun.core.language import Wording
from meadowrun.core.wording import fold

#: The most patterns that are offered while a step is typed.
MOST_OFFERED = 3
_LONGEST = 100


class JourneyPattern(Base):
    """Steps under a name."""

    __tablename__ = "journey_patterns"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    name: orm.Mapped[str] = orm.mapped_column(unique=True)
    #: as the steps of an itinerary
    steps: orm.Mapped[list[Any]]
    by: orm.Mapped[str]
    at: orm.Mapped[dt.datetime]

    def itinerary(self) -> Itinerary:
        """The steps, as an itinerary of nothing else."""
        return from_json({"steps": self.steps})


def all_patterns(session: orm.Session) -> list[JourneyPattern]:
    """Every pattern, by name."""
    return list(session.scalars(sa.select(JourneyPattern).order_by(JourneyPattern.name)))


def named(session: orm.Session, text: str) -> list[JourneyPattern]:
    """The patterns that typed words may mean: those whose name they are, then those whose name has
    them in it."""
    said = fold(text).removeprefix("pattern").strip(" :“”\"'")
    if len(said) < 2:
        return []
    met = [one for one in all_patterns(session) if said in fold(one.name)]
    return sorted(met, key=lambda one: fold(one.name) != said)[:MOST_OFFERED]


def keep(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    itinerary: Itinerary,
    step: str,
    name: str,
    following: bool,
) -> JourneyPattern:
    """Keeps a step of an itinerary with all that is in it, and where it is said so what follows in
    its path. Raises Invalid where the name is missing or taken."""
    name = " ".join(name.split())[:_LONGEST]
    if not name:
        raise Invalid("Give the pattern a name.", "name")
    if any(fold(one.name) == fold(name) for one in all_patterns(session)):
        raise Invalid(Wording("There is a pattern “%(name)s” already.", name=name), "name")
    steps: tuple[Step, ...] = run_from(itinerary, step)[: None if following else 1]
    if not steps:
        raise Invalid("This step is not there any more.")
    if any(
        isinstance(one, JumpStep) and not one.journey for one, _, _ in Itinerary(steps=steps).walk()
    ):
        raise Invalid("A step that leads into a lane of this journey has no place in another.")
    made = JourneyPattern(
        name=name, steps=to_json(Itinerary(steps=steps))["steps"], by=actor.name, at=now
    )
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "kept", "journey pattern", made.id, name)
    return made


def forget(session: orm.Session, actor: Actor, now: dt.datetime, ident: int) -> str:
    """Deletes a pattern; journeys that have its steps keep them. Gives its name. Raises
    NotFound."""
    found = existing(session, JourneyPattern, ident, "pattern")
    audit.record(session, actor, now, "deleted", "journey pattern", ident, found.name)
    session.delete(found)
    return found.name
