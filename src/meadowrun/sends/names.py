"""What sends are called: a suggestion by the pattern of the organisation, and what is wrong."""

import datetime as dt
import zoneinfo
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.campaigns.models import Campaign
from meadowrun.core.channels import CHANNELS
from meadowrun.core.content.findings import Check, should
from meadowrun.core.language import Wording
from meadowrun.core.naming import dated, follows, nearest, suggested
from meadowrun.messages.models import Message
from meadowrun.outgoing.rules import rules
from meadowrun.sends.models import Send

#: By what a name is suggested while no pattern is set.
USUAL = "{campaign} · {subject} · {date}"
#: So many names are looked through, the newest first.
MOST_NAMES = 500


def suggested_name(
    session: orm.Session,
    campaign: Campaign,
    send: Send | None,
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> str:
    """A name for a send of a campaign, by what is known of it."""
    message = session.get(Message, send.message_id) if send and send.message_id else None
    goes = (send.leaves_at if send else None) or now
    place = zoneinfo.ZoneInfo(send.zone) if send else zone
    parts = {
        "campaign": campaign.name,
        "kind": campaign.kind,
        "subject": message.name if message else "",
        "channel": str(CHANNELS[message.channel]) if message else "",
        **dated(goes.astimezone(place).date()),
    }
    return suggested(rules(session).name_pattern or USUAL, parts)


def name_findings(session: orm.Session, send: Send) -> Iterator[Check]:
    """What is wrong with the name of a send: it breaks the pattern, or is nearly that of
    another."""
    pattern = rules(session).name_pattern
    if not follows(pattern, send.name):
        yield should(
            Wording("The name does not follow the pattern “%(pattern)s”.", pattern=pattern),
            "",
            "name",
        )
    others = session.scalars(
        sa.select(Send.name)
        .where(Send.id != send.id, Send.repeats_id.is_distinct_from(send.id), Send.name != "")
        .order_by(Send.id.desc())
        .limit(MOST_NAMES)
    )
    if near := nearest(send.name, others):
        yield should(
            Wording("Another send has nearly the same name: “%(name)s”.", name=near), "", "name"
        )
