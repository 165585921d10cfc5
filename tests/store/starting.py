"""A world in which journeys start, and what happens to people there."""

import dataclasses
import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    Door,
    Span,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, figures, queries
from meadowrun.messages.models import Message
from meadowrun.people.models import EventKind, Field, PeopleList
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, started_by
from tests.store.people import IDA, kinds, many, ready_send

MINUTE, HOUR, DAY = dt.timedelta(minutes=1), dt.timedelta(hours=1), dt.timedelta(days=1)
NO_LIMITS = Door()
LONG = WaitStep("", Span(9, "week"))
IN_FARROW = Who(
    lines=({"id": "t", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]},)
)


def starting_world(database):
    """Five people, a message, a list, and a date field; gives the campaign and the message."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 5)
        session.execute(sa.text("UPDATE contacts SET town = NULL, timezone = 'Europe/London'"))
        kinds(session)
        session.add(EventKind(key="survey_answered", did="answered", do="answer", details={}))
        send = ready_send(session, NOW, {"in": [], "out": []})
        session.add(
            Field(owner="contact", key="renewal", label="renewal", type="date", created_at=NOW)
        )
        session.add(PeopleList(name="Volunteers", source="test", taken_at=NOW))
        return send.campaign_id, session.scalar(sa.select(Message.id))


def running(
    database,
    world,
    start,
    *steps,
    exits=(),
    again="once",
    name="A journey",
    subject="",
    door=NO_LIMITS,
):
    """A journey that runs from NOW on; its number."""
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(Campaign, world[0])
        made = actions.create(session, IDA, NOW, campaign, name)

        def built(itinerary):
            itinerary = started_by(itinerary, start, again, 30)
            itinerary = dataclasses.replace(itinerary, subject=subject, door=door)
            for step in steps:
                itinerary = edit.add(itinerary, step)
            for rule in exits:
                itinerary = edit.add_exit(itinerary, rule)
            return itinerary

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version)
        ident = made.id
    advance(database, NOW)
    return ident


def did(database, statement, **values):
    with database.session() as session:
        session.execute(sa.text(statement), values)


def inside(database, ident):
    with database.session() as session:
        return sorted(one.contact_id for one in queries.people_on(session, ident, None, "inside"))


def stand(database, ident):
    with database.session() as session:
        return figures.numbers(session, ident).stand


def entry(database, ident, contact):
    with database.session() as session:
        return queries.entry(session, ident, contact)


def moves(database, ident, contact):
    with database.session() as session:
        found = queries.entry(session, ident, contact)
        return [(one.because, one.at) for one in queries.moves(session, found.id)]


TO_FARROW = "UPDATE contacts SET town = 'Farrow' WHERE id = :id"


RENEWS = (
    "UPDATE contacts SET attributes = jsonb_build_object('renewal', CAST(:day AS text)) "
    "WHERE id = :id"
)


def happens(database, kind, at, *contacts):
    with clock.at(at), database.session() as session:
        rows = [{"event": kind, "contact": one, "at": at.isoformat()} for one in contacts]
        take_events(session, at, "t", rows)
    advance(database, at)
