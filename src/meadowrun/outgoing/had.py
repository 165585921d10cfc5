"""Who had something before: this message ever, or anything of a campaign within some days.

Had is what was handed over or is in doubt, and what a worker has in hand at this moment. Contacts
are locked from the claim until their verdict is written, so two sends cannot both see that somebody
had nothing yet.
"""

import dataclasses
import datetime as dt
from collections.abc import Collection
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.outgoing.models import Dispatch

#: A message may go so many days after its audience was settled.
_LATEST = dt.timedelta(days=32)

#: By which dispatches somebody had it before, by the rule.
_BY = {
    "message": "s.message_id = :had_message",
    "campaign": "s.campaign_id = :had_campaign AND coalesce(d.at, :had_now) >= :had_since "
    "AND d.taken_at >= :had_taken",
}
#: Contacts who had it; `{by}` says by which dispatches.
HAD = """
SELECT d.contact_id FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE {by} AND s.id <> :had_but AND (d.outcome IN ('delivered', 'in_doubt', 'in_hand')
    OR d.outcome IN ('waiting', 'deferred') AND d.claim IN (SELECT b.claim FROM batches b))
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Before:
    """What counts as having had it before."""

    #: one of AGAIN_RULES
    rule: str
    #: within how many days something of the campaign counts
    days: int
    message_id: int | None
    campaign_id: int | None
    #: the number of a dispatch that does not count: that which asks
    but: int = 0

    @classmethod
    def of(cls, dispatch: Dispatch) -> "Before":
        """As a dispatch asks it."""
        return cls(
            dispatch.again_rule,
            dispatch.again_days,
            dispatch.message_id,
            dispatch.campaign_id,
            dispatch.id,
        )

    def sql(self, now: dt.datetime) -> tuple[str, dict[str, Any]]:
        """The contacts who had it, as SQL with its values; empty where nobody is left out."""
        if self.rule not in _BY:
            return "", {}
        since = now - dt.timedelta(days=self.days)
        return HAD.format(by=_BY[self.rule]), {
            "had_but": self.but,
            "had_message": self.message_id,
            "had_campaign": self.campaign_id,
            "had_now": now,
            "had_since": since,
            "had_taken": since - _LATEST,
        }

    def among(self, session: orm.Session, contacts: Collection[int], now: dt.datetime) -> set[int]:
        """Who of some contacts had it."""
        found, values = self.sql(now)
        if not found:
            return set()
        asked = f"{found} AND d.contact_id = ANY(:had_ids)"
        return set(session.scalars(sa.text(asked), values | {"had_ids": list(contacts)}))
