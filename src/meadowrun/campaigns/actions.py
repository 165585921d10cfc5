"""Campaigns: name, kind, dates, tags and facts."""

import datetime as dt
import re
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.language import Wording
from meadowrun.core.wording import fold
from meadowrun.people.queries import definitions_using
from meadowrun.tags import actions as tag_actions

#: Kinds offered before an organisation has used any of its own.
BEGINNINGS = ("Announcement", "Appeal", "Invitation", "Newsletter", "Offer", "Renewal")


def get(session: orm.Session, campaign_id: int) -> Campaign:
    return existing(session, Campaign, campaign_id, "campaign")


def campaigns(session: orm.Session) -> list[Campaign]:
    return list(
        session.scalars(
            sa.select(Campaign).order_by(Campaign.starts.desc().nulls_last(), Campaign.id.desc())
        )
    )


def fact_key(label: str) -> str:
    """The name a fact is filled in by: "Night's venue" → nights_venue."""
    return re.sub(r"[^a-z0-9]+", "_", fold(label).replace("’", "").replace("'", "")).strip("_")[:40]


def kinds(session: orm.Session) -> list[str]:
    """What a campaign may be called a kind of: what was used so far, and a few to begin with. Any
    other may be typed."""
    return sorted(
        {*session.scalars(sa.select(Campaign.kind).distinct()), *BEGINNINGS}, key=str.lower
    )


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    values: dict[str, Any],
    campaign: Campaign | None = None,
    based_on: int | None = None,
) -> Campaign:
    """Adds a campaign or changes it; `tags` among the values are paths.

    Raises Invalid naming the field, Conflict when the name is taken or somebody changed it after
    version `based_on`.
    """
    if campaign is not None:
        session.refresh(campaign, with_for_update=True)
        if based_on is not None and based_on != campaign.version:
            raise Conflict(
                "Somebody changed this campaign while you were editing it. What you typed is "
                "still here: open the campaign in another window, compare, then save again.",
                campaign.version,
            )
    name = " ".join(str(values.get("name", "")).split())
    if not name:
        raise Invalid("Give the campaign a name you will recognise in reports.", "name")
    taken = session.scalar(sa.select(Campaign).where(Campaign.name == name))
    if taken is not None and taken is not campaign:
        raise Conflict(
            Wording(
                "There is a campaign called “%(name)s” already. Add its place or date to the name.",
                name=name,
            )
        )
    kind = " ".join(str(values.get("kind") or "Other").split())
    if len(kind) > 40:
        raise Invalid("Say the kind in at most 40 characters.", "kind")
    starts, ends = values.get("starts"), values.get("ends")
    if starts and ends and ends < starts:
        raise Invalid("The campaign ends before it begins.", "ends")
    if campaign is None:
        campaign = Campaign(name=name, kind=kind, created_at=now, changed_at=now, facts={}, tags=[])
        session.add(campaign)
    else:
        campaign.version += 1
    campaign.name, campaign.kind = name, kind
    campaign.starts, campaign.ends = starts, ends
    if "tags" in values:
        campaign.tags = tag_actions.numbers(session, now, values["tags"])
    campaign.facts = values.get("facts", campaign.facts)
    campaign.changed_at = now
    session.flush()
    audit.record(session, actor, now, "saved", "campaign", campaign.id, name)
    return campaign


def delete(
    session: orm.Session, actor: Actor, now: dt.datetime, campaign: Campaign, uses: list[str]
) -> None:
    """Deletes a campaign that holds nothing: `uses` says what it does hold, in words. Raises
    Conflict naming that, or the conditions that name it."""
    used = uses + definitions_using(
        session, f'$.** ? (@.kind == "mail" && @.of.campaign == {int(campaign.id)})'
    )
    if used:
        raise Conflict(
            Wording("“%(name)s” goes on in %(used)s.", name=campaign.name, used=", ".join(used[:5]))
        )
    audit.record(session, actor, now, "deleted", "campaign", campaign.id, campaign.name)
    session.delete(campaign)
