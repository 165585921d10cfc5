"""Sends that begin with what they send, or with whom they go to: their campaign is found or made on
the way."""

import datetime as dt
import zoneinfo
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.campaigns import actions as campaigns
from meadowrun.campaigns.models import Campaign
from meadowrun.core.timing.zones import moment_of
from meadowrun.core.wording import free_name
from meadowrun.messages.models import Message
from meadowrun.people.models import PeopleList
from meadowrun.segments.models import Segment
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from meadowrun.sends.names import suggested_name
from meadowrun.sends.queries import EDITABLE

#: When a send goes of which only the day was chosen; of today soon, where that has passed.
HOUR = dt.time(10)
_SOON = dt.timedelta(hours=1)
#: So many sends of a message are shown.
_MOST = 5
#: Part of an audience: {"segment": number} or {"list": number}.
Part = dict[str, int]


def likely_campaign(
    session: orm.Session, message: Message | None, part: Part | None
) -> Campaign | None:
    """The campaign that a send most likely belongs to: that of the last send of this message, or to
    these people, else of the send changed last, else the newest one; None where there is none."""
    newest = sa.select(Send.campaign_id).order_by(Send.changed_at.desc(), Send.id.desc()).limit(1)
    asked = []
    if message is not None:
        asked.append(newest.where(Send.message_id == message.id))
    if part is not None:
        asked.append(newest.where(Send.audience["in"].contains([part])))
    for one in (*asked, newest):
        found = session.scalar(one)
        if found is not None:
            return session.get(Campaign, found)
    return next(iter(campaigns.campaigns(session)), None)


def part_of(session: orm.Session, text: str) -> Part | None:
    """People as an address names them, “segment:3” or “list:4”; None for nobody. Raises Invalid for
    what is not there any more."""
    kind, _, number = text.partition(":")
    if not text:
        return None
    table = {"segment": Segment, "list": PeopleList}.get(kind)
    found = session.get(table, int(number)) if table and number.isdecimal() else None
    if found is None:
        raise Invalid("These people are not there any more. Choose them on the send.")
    return {kind: int(number)}


def name_for(
    session: orm.Session, campaign: Campaign, now: dt.datetime, zone: zoneinfo.ZoneInfo
) -> str:
    """A name for a send of a campaign that no other send has."""
    taken = set(session.scalars(sa.select(Send.name)))
    return free_name(suggested_name(session, campaign, None, now, zone), taken)


def begin(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    campaign: Campaign,
    name: str,
    zone: str,
    message: Message | None = None,
    parts: Sequence[Part] = (),
    on: dt.date | None = None,
) -> Send:
    """A send of a campaign with its message, its people and its day, as far as they are known. On a
    day that is given it goes at HOUR, until another is chosen. Raises Invalid."""
    made = actions.create(session, actor, now, campaign, name, zone)
    known: dict[str, Any] = {}
    if message is not None:
        known["message_id"] = message.id
    if parts:
        known["audience"] = {"in": list(parts), "out": []}
    if on is not None:
        moment = moment_of(dt.datetime.combine(on, HOUR), zoneinfo.ZoneInfo(zone))
        known["leaves_at"] = max(moment, now + _SOON)
    if known:
        actions.change(session, actor, now, made, made.version, known)
    return made


def drafts_with(session: orm.Session, message: Message) -> list[Send]:
    """The sends of a message that have not gone yet, the latest change first."""
    return _latest(session, message, Send.state.in_(EDITABLE), Send.changed_at)


def sent_before(session: orm.Session, message: Message) -> list[Send]:
    """The sends of a message that went out, the latest first."""
    return _latest(session, message, Send.taken_at.is_not(None), Send.taken_at)


def _latest(
    session: orm.Session,
    message: Message,
    which: sa.ColumnElement[bool],
    by: sa.SQLColumnExpression[dt.datetime] | sa.SQLColumnExpression[dt.datetime | None],
) -> list[Send]:
    """The latest sends of a message, of those that a condition chooses."""
    asked = sa.select(Send).where(Send.message_id == message.id, which)
    return list(session.scalars(asked.order_by(by.desc()).limit(_MOST)))
