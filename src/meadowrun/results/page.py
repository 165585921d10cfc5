"""What results draw on pages of others."""

import flask

from meadowrun.results import looking
from meadowrun.results.models import SendNumbers
from meadowrun.sends.queries import recent
from meadowrun.shell.request import db, zone


def drawn_of_campaign(campaign_id: int) -> str:
    """The sends of a campaign with what came of each; nothing where it has none."""
    gone = _gone(campaign_id)
    left = {row.send.id for row in gone}
    ahead = [one for one, _ in recent(db(), campaign_id=campaign_id) if one.id not in left]
    if not gone and not ahead:
        return ""
    return flask.render_template("results/of_campaign.html", gone=gone, ahead=ahead)


def drawn_together(campaign_id: int) -> str:
    """What came of all sends of a campaign together; nothing before one has gone out."""
    gone = _gone(campaign_id)
    if not gone:
        return ""
    return flask.render_template("results/together.html", total=looking.total(gone))


def drawn_of_send(send_id: int) -> str:
    """What came of a send so far, as last worked out in the background: counting afresh would keep
    whoever looks on waiting. Nothing before it has delivered to somebody."""
    if db().get(SendNumbers, send_id) is None:
        return ""
    row = looking.row(db(), send_id)
    if row is None or not row.count("delivered"):
        return ""
    return flask.render_template("results/of_send.html", row=row)


def _gone(campaign_id: int) -> list[looking.Row]:
    """The sends of a campaign that went out, the latest first; read once for a page."""
    kept: dict[int, list[looking.Row]] = flask.g.setdefault("gone_of_campaign", {})
    if campaign_id not in kept:
        narrowed = looking.Narrowed(campaign=campaign_id)
        kept[campaign_id] = looking.rows(db(), narrowed, zone(), "sent", True)
    return kept[campaign_id]
