"""Twenty people and a journey that is written and rehearsed."""

import dataclasses
import datetime as dt
import zoneinfo

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    MessageStep,
    Path,
    Span,
    Start,
    WaitForStep,
    WaitStep,
    Who,
)
from meadowrun.journeys import actions, queries
from meadowrun.journeys.imagining import Asked, imagine
from meadowrun.messages.models import Message
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import started_by
from tests.store.people import IDA, kinds, many, ready_send

LONDON = zoneinfo.ZoneInfo("Europe/London")
PEOPLE = 20
EVERYONE = Who(lines=({"id": "e", "kind": "field", "field": "email", "op": "not_blank"},))
WELCOME = (
    MessageStep("", 1),
    WaitForStep("", Span(3, "day"), (Path("", event="visited"), Path(""))),
    WaitStep("", Span(1, "day")),
)


def world_to_rehearse(database):
    """Twenty people, one of whom said no to email, a message and a journey of a campaign."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        session.execute(sa.text("UPDATE contacts SET timezone = 'Europe/London'"))
        session.execute(sa.text("UPDATE consents SET agreed = false WHERE contact_id = 3"))
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        session.execute(sa.text("UPDATE messages SET name = 'Welcome'"))
        campaign = session.get_one(Campaign, send.campaign_id)
        return actions.create(session, IDA, NOW, campaign, "First weeks").id


BOUGHT = Start("event", "ticket_bought")


def written(database, ident, *steps, start=BOUGHT, **more):
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, ident)
        message = session.scalar(sa.select(Message.id))

        def built(itinerary):
            for step in steps:
                itinerary = edit.add(itinerary, step)
            itinerary = started_by(itinerary, start, more.get("again", "once"), 30)
            itinerary = dataclasses.replace(itinerary, exits=more.get("exits", ()))
            return edit.with_goal(itinerary, more.get("goal"))

        assert message == 1
        actions.write(session, IDA, NOW, found, found.version, "wrote", built)


def happens(database, kind, *when):
    """Events of contacts, so many days ago each."""
    with clock.at(NOW), database.session() as session:
        rows = [
            {
                "event": kind,
                "contact": contact,
                "at": (NOW - dt.timedelta(days=days)).isoformat(),
            }
            for contact, days in when
        ]
        for first in range(0, len(rows), 1000):
            take_events(session, NOW, "t", rows[first : first + 1000])


USUAL = Asked()


def rehearsed(database, ident, asked=USUAL, now=NOW):
    with database.session() as session:
        moment = Moment(session, dictionary(session), now, LONDON)
        journey = queries.journey(session, ident)
        return imagine(moment, journey, queries.draft(session, journey), asked)


def first_of(database, ident):
    with database.session() as session:
        return queries.draft(session, queries.journey(session, ident)).steps
