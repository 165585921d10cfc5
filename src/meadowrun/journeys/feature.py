"""Journeys: steps that each contact walks through in their own time."""

from collections.abc import Iterator

import flask
from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Owner, Use, named
from meadowrun.core.language import Wording
from meadowrun.journeys.models import STATES, Journey
from meadowrun.journeys.parts import drawn_of_campaign
from meadowrun.journeys.queries import count_by_campaign, of_campaign


def _of_campaign(session: orm.Session, campaign_id: int) -> Iterator[Use]:
    for one in of_campaign(session, campaign_id):
        path = flask.url_for("journeys.show", ident=one.id)
        yield Use("journey", one.name, STATES[one.state], path)


FEATURE = Feature(
    pages={"views": Wording("Campaigns"), "editing_views": Wording("Campaigns")},
    tasks=("jobs",),
    does=((Wording("Journeys"), "journeys.table"),),
    finds=(named("journeys.show", Journey, "journey"),),
    owns={
        "journey": Owner(
            lambda session, ident, state, now: None,
            lambda ident: f"/journeys/{ident}",
            lambda ident: flask.url_for("journeys.show", ident=ident),
        )
    },
    uses={"campaign": _of_campaign},
    parts={"campaign.sends": drawn_of_campaign},
    counts={"campaign": count_by_campaign},
)
