"""What results draw on pages of others."""

import flask

from meadowrun.results.queries import kept_numbers
from meadowrun.sends.queries import recent
from meadowrun.shell.request import db


def drawn_of_campaign(campaign_id: int) -> str:
    """The sends of a campaign with what came of each; nothing where it has none."""
    sends = [(send, kept_numbers(db(), send)) for send, _ in recent(db(), campaign_id=campaign_id)]
    return flask.render_template("results/of_campaign.html", sends=sends) if sends else ""
