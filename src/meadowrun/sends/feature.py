"""Sends: one message to an audience, read like a letter of instruction before it goes."""

from collections.abc import Iterator

import flask
from sqlalchemy import orm

from meadowrun.base.manifest import Feature, Owner, Use, named
from meadowrun.core.language import Wording
from meadowrun.sends.actions import moved
from meadowrun.sends.models import Send
from meadowrun.sends.queries import (
    count_by_campaign,
    count_by_message,
    goes,
    left_by,
    of_segment,
    recent,
)

#: How a send stands, in words.
_STATES = {
    "draft": "draft",
    "planned": "planned",
    "taking": "going out",
    "running": "going out",
    "paused": "paused",
    "done": "sent",
    "stopped": "stopped",
}


def _of_segment(session: orm.Session, segment_id: int) -> Iterator[Use]:
    for send in of_segment(session, segment_id):
        yield Use(
            "send", send.name, _STATES[send.state], flask.url_for("sends.show", ident=send.id)
        )


def _of_campaign(session: orm.Session, campaign_id: int) -> Iterator[Use]:
    for send, _ in recent(session, campaign_id=campaign_id):
        yield Use(
            "send", send.name, _STATES[send.state], flask.url_for("sends.show", ident=send.id)
        )


FEATURE = Feature(
    pages={"views": Wording("Campaigns"), "word_views": Wording("Campaigns")},
    tasks=("jobs",),
    goes=goes,
    left=left_by,
    does=((Wording("Senders and topics"), "sends.senders_page"),),
    finds=(named("sends.show", Send, "send"),),
    owns={
        "send": Owner(
            moved,
            lambda ident: f"/sends/{ident}",
            lambda ident: flask.url_for("results.behind", ident=ident, what="in_doubt"),
        )
    },
    uses={"segment": _of_segment, "campaign": _of_campaign},
    counts={"campaign": count_by_campaign, "message": count_by_message},
)
