"""What journeys draw on the pages of others."""

import flask

from meadowrun.journeys import queries
from meadowrun.journeys.models import STATES
from meadowrun.shell.request import db


def drawn_of_campaign(ident: int) -> str:
    """The journeys of a campaign; nothing where there are none."""
    found = queries.of_campaign(db(), ident)
    if not found:
        return ""
    return flask.render_template(
        "journeys/of_campaign.html",
        rows=[(one, queries.numbers(db(), one.id).stand) for one in found],
        states=STATES,
    )
