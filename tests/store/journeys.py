"""Does by hand what workers do for journeys."""

import dataclasses

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.journeys.jobs import once
from meadowrun.journeys.models import JourneyEntry
from tests.store.work import work


def advance(database, now):
    """All that is due at a moment: people go on, and what they are sent leaves."""
    with clock.at(now):
        for _ in range(500):
            with database.session() as session:
                more = once(session)
            work(database)
            with database.session() as session:
                if not (once(session) or more):
                    return
    raise AssertionError("there is no end to it")


def due_next(database, now):
    """The next moment at which somebody on a journey is due."""
    with database.session() as session:
        return session.scalar(
            sa.select(sa.func.min(JourneyEntry.due)).where(JourneyEntry.due > now)
        )


def started_by(itinerary, start, again, days):
    """An itinerary that one thing starts, or nothing."""
    starts = () if start is None else (dataclasses.replace(start, id="start"),)
    return dataclasses.replace(itinerary, starts=starts, again=again, again_days=days)
