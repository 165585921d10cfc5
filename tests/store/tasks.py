"""A world with colleagues, and journeys that ask something of them."""

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import Start
from meadowrun.journeys import actions
from meadowrun.shell.models import User
from tests.conftest import NOW
from tests.store.journeys import started_by
from tests.store.people import IDA, kinds, many, ready_send


def with_colleagues(database):
    """Ten people and three colleagues; gives the campaign and these."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 10)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        made = [
            User(
                email=f"{name}@farrowhill.example".lower(),
                name=name,
                password_hash="",
                role="viewer",
                created_at=NOW,
            )
            for name in ("Ana", "Ben", "Cleo")
        ]
        session.add_all(made)
        session.flush()
        return send.campaign_id, [one.id for one in made]


def running(database, world, *steps, hours=None):
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(Campaign, world[0])
        made = actions.create(session, IDA, NOW, campaign, "Calls")
        made.hours = hours or {}

        def built(itinerary):
            itinerary = started_by(itinerary, Start("event", "visited"), "any", 30)
            for step in steps:
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version)
        return made.id
