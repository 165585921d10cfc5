"""The edition of a journey that people walk now, read once for all who ask."""

import dataclasses

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.cache import Cache
from meadowrun.base.db import place_of
from meadowrun.core.journeys.flat import Flat, first_steps, flatten, lifts
from meadowrun.core.journeys.reading import from_json
from meadowrun.core.journeys.steps import Itinerary
from meadowrun.journeys.models import Journey, JourneyEdition

#: The version of an edition's row: what it names is renamed in it where two things become one.
_VERSION = """
SELECT xmin::text FROM journey_editions WHERE journey_id = :journey AND number = :number
"""
#: Itineraries and their steps, by database, journey, edition and version: every look asks for those
#: of all journeys.
_walked: Cache[tuple[Itinerary, dict[str, Flat]]] = Cache(400)


@dataclasses.dataclass(frozen=True)
class Walk:
    """The edition of a journey that people walk now."""

    journey: Journey
    itinerary: Itinerary
    steps: dict[str, Flat]

    @classmethod
    def of(cls, session: orm.Session, journey: Journey) -> "Walk":
        """That of a journey that was started."""
        of = {"journey": journey.id, "number": journey.edition}
        version = session.execute(sa.text(_VERSION), of).scalar_one()

        def read() -> tuple[Itinerary, dict[str, Flat]]:
            asked = sa.select(JourneyEdition.itinerary).where(
                JourneyEdition.journey_id == journey.id, JourneyEdition.number == journey.edition
            )
            itinerary = from_json(session.execute(asked).scalar_one())
            return itinerary, flatten(itinerary)

        key = (place_of(session), journey.id, journey.edition, version)
        return cls(journey, *_walked.made(key, read))

    @property
    def first(self) -> dict[str, str]:
        """The step that everybody begins with in each lane."""
        return first_steps(self.itinerary)

    @property
    def lifts(self) -> dict[str, str]:
        """From which steps whoever reaches the goal goes on past those between, and where to."""
        return lifts(self.itinerary)
