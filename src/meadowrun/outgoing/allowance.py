"""How many messages may still leave within this day or month, as was agreed with whoever takes
them."""

import dataclasses
import datetime as dt
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.outgoing.rules import change, rules

#: Within what an allowance holds.
PERIODS = ("day", "month")
#: What left counts, also when it bounced; proofs do not pass here.
_LEFT = """
SELECT count(*) FROM deliveries WHERE at >= :since AND taken_at >= :taken
AND outcome IN ('delivered', 'bounced', 'in_doubt')
"""
#: A message may go so many days after its audience was settled.
_LATEST = dt.timedelta(days=32)


@dataclasses.dataclass(frozen=True, slots=True)
class Allowance:
    """How many may leave, within what, and how many have left."""

    most: int
    per: str
    used: int

    @property
    def left(self) -> int:
        """How many may still leave."""
        return max(0, self.most - self.used)


def allowance(session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> Allowance | None:
    """What may still leave today or this month, on the organisation's calendar; None where nothing
    was agreed."""
    found = rules(session)
    if found.allowance is None:
        return None
    first = now.astimezone(zone).date()
    if found.allowance_per == "month":
        first = first.replace(day=1)
    since = dt.datetime.combine(first, dt.time(), zone)
    values = {"since": since, "taken": since - _LATEST}
    used = session.execute(sa.text(_LEFT), values).scalar_one()
    return Allowance(found.allowance, found.allowance_per, used)


def save(session: orm.Session, actor: Actor, now: dt.datetime, most: int | None, per: str) -> None:
    """Sets how many may leave within a day or a month; None: as many as you like. Raises
    Invalid."""
    if most is not None and not 1 <= most <= 1_000_000_000:
        raise Invalid("Give a number of messages, or nothing.", "most")
    if per not in PERIODS:
        raise Invalid("Choose one of the periods offered.", "per")
    change(session, actor, now, "changed the allowance", allowance=most, allowance_per=per)
