"""Sends: one message to an audience, read like a letter of instruction before it goes."""

from collections.abc import Iterator

import flask
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Feature, Owner, Thing, Use, Way, named
from meadowrun.core.language import Wording
from meadowrun.core.wording import people
from meadowrun.sends.actions import moved
from meadowrun.sends.approval import waiting
from meadowrun.sends.models import Send
from meadowrun.sends.names import suggested_name
from meadowrun.sends.queries import (
    count_by_campaign,
    count_by_message,
    dates_by_campaign,
    dates_by_message,
    goes,
    left_by,
    of_segment,
    recent,
    still_in,
)
from meadowrun.shell.accounts import may
from meadowrun.shell.request import db, now, zone

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


def _to_approve(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """The sends that wait for the approval of a colleague."""
    if not may(who, "approver"):
        return
    for send in waiting(session, who):
        yield Thing(
            Wording("%(who)s asks you to approve", who=send.asked_by),
            send.name,
            flask.url_for("sends.last_look", ident=send.id),
            Wording("%(people)s would get it.", people=people(send.asked_people or 0)),
        )


FEATURE = Feature(
    waits=_to_approve,
    pages={
        "views": Wording("Campaigns"),
        "word_views": Wording("Campaigns"),
        "beginning_views": Wording("Campaigns"),
    },
    tasks=("jobs",),
    goes=goes,
    left=left_by,
    does=(
        Way(
            Wording("New send"),
            "beginning.new",
            Wording("mailing newsletter write to people email text push repeat recurring rhythm"),
            often=True,
        ),
        Way(
            Wording("Senders and topics"),
            "sends.senders_page",
            Wording(
                "from name address reply subscriptions preferences preference double opt-in "
                "signature newsletters"
            ),
        ),
    ),
    finds=(named("sends.show", Send, "send"),),
    owns={
        "send": Owner(
            moved,
            lambda ident: f"/sends/{ident}",
            lambda ident: flask.url_for("results.behind", ident=ident, what="in_doubt"),
            still_in,
        )
    },
    uses={"segment": _of_segment, "campaign": _of_campaign},
    says={"suggested_name": lambda campaign: suggested_name(db(), campaign, None, now(), zone())},
    counts={"campaign": count_by_campaign, "message": count_by_message},
    dates={"campaign": dates_by_campaign, "message": dates_by_message},
)
