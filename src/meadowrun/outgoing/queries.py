"""What became of what left."""

import dataclasses
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.guardrails.outcomes import OUTCOMES
from meadowrun.outgoing.models import Delivery, Dispatch
from meadowrun.people.queries import living


def tally(session: orm.Session, dispatch_id: int | None) -> dict[str, int]:
    """Every person of a dispatch under exactly one outcome, in the order of OUTCOMES, none left
    out."""
    dispatch = session.get(Dispatch, dispatch_id) if dispatch_id else None
    if dispatch is None:
        return {}
    rows = {
        row[0]: row[1]
        for row in session.execute(
            sa.select(Delivery.outcome, sa.func.count())
            .where(Delivery.dispatch_id == dispatch.id, Delivery.taken_at == dispatch.taken_at)
            .group_by(Delivery.outcome)
        )
    }
    return {name: rows[name] for name in OUTCOMES if name in rows}


#: Who waits for a reason of ours: the reason, how many, and when the first of them is judged again.
_WAITS = """
SELECT stood_on->>'because' AS because, count(*) AS people, min(due) AS until FROM deliveries
WHERE dispatch_id = :id AND taken_at = :taken AND outcome IN ('waiting', 'deferred')
AND due > :now GROUP BY 1 ORDER BY 3
"""


@dataclasses.dataclass(frozen=True)
class Waits:
    """Some people who wait: why, as it is kept, how many, and until when at the earliest."""

    because: str | None
    people: int
    until: dt.datetime


def waits(session: orm.Session, dispatch: Dispatch | None, now: dt.datetime) -> list[Waits]:
    """Who of a dispatch waits for a later moment, by the reason."""
    if dispatch is None:
        return []
    rows = session.execute(
        sa.text(_WAITS), {"id": dispatch.id, "taken": dispatch.taken_at, "now": now}
    )
    return [Waits(*row) for row in rows]


def to_contact(session: orm.Session, dispatch_id: int | None, contact_id: int) -> Delivery | None:
    """The last delivery of a dispatch to a contact."""
    return session.scalar(
        sa.select(Delivery)
        .where(Delivery.dispatch_id == dispatch_id, Delivery.contact_id == contact_id)
        .order_by(Delivery.occurrence.desc())
        .limit(1)
    )


def numbered(session: orm.Session, number: int, contact_id: int) -> Delivery | None:
    """The delivery that a token names; of a contact that was merged into another, where it moved
    to."""
    asked = sa.select(Delivery).where(Delivery.number == number)
    found = session.scalar(asked.where(Delivery.contact_id == contact_id))
    if (
        found is None
        and (kept := living(session, contact_id)) is not None
        and kept.id != contact_id
    ):
        found = session.scalar(asked.where(Delivery.contact_id == kept.id))
    return found
