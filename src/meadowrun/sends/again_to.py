"""Sending again to those who did not get it."""

import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict
from meadowrun.campaigns.models import Campaign
from meadowrun.core.language import Wording
from meadowrun.core.wording import free_name
from meadowrun.outgoing.models import Delivery
from meadowrun.people.keeping import make_list
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from meadowrun.sends.repeats import SHARED

#: Outcomes of people who did not get it and might now. Control groups stay without it; whoever had
#: it before, or under another record, has it; of those in doubt nobody knows.
MISSED = (
    "bounced",
    "over_limit",
    "no_consent",
    "suppressed",
    "no_address",
    "bad_address",
    "bounced_before",
    "not_rendered",
    "quiet",
    "no_room",
    "left_audience",
    "late",
    "stopped",
)


def how_many(tally: Mapping[str, int]) -> int:
    """How many people did not get it and might now, by the tally of a send."""
    return sum(tally.get(outcome, 0) for outcome in MISSED)


def send_to_missed(session: orm.Session, actor: Actor, now: dt.datetime, send: Send) -> Send:
    """A send like this one, not started, to those who did not get it, kept as a list. Whoever gets
    the message meanwhile is left out. Raises Conflict for one that is not over, or that missed
    nobody."""
    if send.state not in ("done", "stopped") or send.dispatch is None:
        raise Conflict("This send is not over yet.")
    dispatch = send.dispatch
    people = session.scalars(
        sa.select(Delivery.contact_id).where(
            Delivery.dispatch_id == dispatch.id,
            Delivery.taken_at == dispatch.taken_at,
            Delivery.outcome.in_(MISSED),
        )
    ).all()
    if not people:
        raise Conflict("Everybody who could get it has got it.")
    kept = make_list(
        session,
        actor,
        now,
        f"Did not get {send.name}",
        f"those the send “{send.name}” did not reach",
        list(people),
    )
    taken = set(session.scalars(sa.select(Send.name)))
    name = free_name(str(Wording("%(name)s, again", name=send.name)), taken)
    campaign = session.get_one(Campaign, send.campaign_id)
    made = actions.create(session, actor, now, campaign, name, send.zone)
    audience = {"in": [{"list": kept.id}], "out": send.audience.get("out", [])}
    changed = same_as(send) | {"audience": audience, "again_rule": "message"}
    actions.change(session, actor, now, made, made.version, changed)
    return made


def same_as(send: Send) -> dict[str, Any]:
    """What another send of the same takes over, but for its people and who had it before."""
    return {column: getattr(send, column) for column in SHARED if column not in _NOT}


#: What a send again does not take over: it is made of these itself.
_NOT = ("campaign_id", "audience", "zone", "started_by", "again_rule")
