"""The table of all sends that went out: narrowed, sorted, added up, and by month."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Callable, Collection, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.campaigns.models import Campaign
from meadowrun.gateways.channels import CHANNELS
from meadowrun.messages.models import Message
from meadowrun.outgoing.models import Dispatch
from meadowrun.results.queries import kept_numbers
from meadowrun.sends.models import Send

#: So many sends are looked at, the newest ones.
MOST = 300
#: States of sends whose result there is.
GONE = ("running", "paused", "done", "stopped")


@dataclasses.dataclass(frozen=True, slots=True)
class Narrowed:
    """To which sends the table is narrowed; empty: to none."""

    #: “2026-11”, on the organisation's clock
    month: str = ""
    channel: str = ""
    campaign: int = 0
    #: the numbers of a tag and of all under it
    tags: Collection[int] = ()
    #: from which moment on, and before which one
    between: tuple[dt.datetime, dt.datetime] | None = None


@dataclasses.dataclass(frozen=True)
class Row:
    """One send with the outcome; every count is of people, each once."""

    send: Send
    campaign: Campaign
    channel: str
    numbers: Mapping[str, int]

    def count(self, key: str) -> int:
        """How many did something."""
        return self.numbers.get(key, 0)

    @property
    def tells(self) -> frozenset[str]:
        """What can be known of people on its channel."""
        said = set(CHANNELS[self.channel].steps)
        return frozenset(said | ({"converted"} if self.send.success_event else set()))

    def share(self, key: str) -> float:
        """The share of those delivered who did something; -1 where that cannot be known."""
        delivered = self.count("delivered")
        known = key == "unsubscribed" or key in self.tells
        return self.count(key) / delivered if known and delivered else -1.0


#: What the table can be sorted by.
SORTS: dict[str, Callable[[Row], object]] = {
    "sent": lambda row: row.send.taken_at,
    "name": lambda row: row.send.name.lower(),
    "audience": lambda row: row.send.audience_size or 0,
    "delivered": lambda row: row.count("delivered"),
    "opened": lambda row: row.share("opened"),
    "clicked": lambda row: row.share("clicked"),
    "success": lambda row: row.share("converted"),
    "unsubscribed": lambda row: row.share("unsubscribed"),
}


@dataclasses.dataclass(frozen=True, slots=True)
class Total:
    """Several sends together; a share is of those delivered by sends of which it can be known."""

    sends: int
    audience: int
    delivered: int
    opened: float | None
    clicked: float | None
    success: float | None
    unsubscribed: float | None


@dataclasses.dataclass(frozen=True, slots=True)
class Month:
    """The sends of one month together."""

    first: dt.date
    sends: int
    delivered: int
    opened: int
    clicked: int
    converted: int


def _went_out() -> sa.Select[Send, Campaign, str]:
    """Sends that went out, each with its campaign and its channel."""
    return (
        sa.select(Send, Campaign, Message.channel)
        .join(Campaign, Campaign.id == Send.campaign_id)
        .join(Dispatch, Dispatch.id == Send.dispatch_id)
        .join(Message, Message.id == Dispatch.message_id)
        .where(Send.state.in_(GONE))
    )


def row(session: orm.Session, send_id: int) -> Row | None:
    """One send; None where it has not gone out."""
    found = session.execute(_went_out().where(Send.id == send_id)).one_or_none()
    if found is None:
        return None
    send, campaign, channel = found
    return Row(send, campaign, channel, kept_numbers(session, send))


def rows(
    session: orm.Session, narrowed: Narrowed, zone: zoneinfo.ZoneInfo, sort: str, down: bool
) -> list[Row]:
    """The sends that went out, the newest first unless sorted otherwise."""
    asked = _went_out()
    if narrowed.month:
        first, last = _month(narrowed.month, zone)
        asked = asked.where(Send.taken_at >= first, Send.taken_at < last)
    if narrowed.between:
        begins, ends = narrowed.between
        asked = asked.where(Send.taken_at >= begins, Send.taken_at < ends)
    if narrowed.channel:
        asked = asked.where(Message.channel == narrowed.channel)
    if narrowed.campaign:
        asked = asked.where(Campaign.id == narrowed.campaign)
    if narrowed.tags:
        tags = sa.cast(list(narrowed.tags), sa.ARRAY(sa.BigInteger))
        asked = asked.where(sa.or_(Campaign.tags.op("&&")(tags), Message.tags.op("&&")(tags)))
    newest = asked.order_by(Send.taken_at.desc(), Send.id.desc()).limit(MOST)
    found = [
        Row(send, campaign, channel, kept_numbers(session, send))
        for send, campaign, channel in session.execute(newest)
    ]
    return sorted(found, key=SORTS[sort], reverse=down)  # type: ignore[arg-type]


def _month(text: str, zone: zoneinfo.ZoneInfo) -> tuple[dt.datetime, dt.datetime]:
    """When a month begins and ends on a clock."""
    first = dt.date.fromisoformat(f"{text}-01")
    after = (first + dt.timedelta(days=31)).replace(day=1)
    begins, ends = (dt.datetime.combine(day, dt.time(), zone) for day in (first, after))
    return begins, ends


#: The months in which sends went out, the newest first.
_MONTHS = """
SELECT DISTINCT to_char(taken_at AT TIME ZONE :zone, 'YYYY-MM') AS month FROM sends
WHERE state = ANY(:gone) AND taken_at IS NOT NULL ORDER BY 1 DESC
"""


def months(session: orm.Session, zone: zoneinfo.ZoneInfo) -> list[str]:
    """The months that the table can be narrowed to, the newest first: “2026-11”."""
    values = {"zone": str(zone), "gone": list(GONE)}
    return list(session.scalars(sa.text(_MONTHS), values))


def total(found: Sequence[Row]) -> Total:
    """Some sends together."""

    def share(key: str) -> float | None:
        known = [row for row in found if row.share(key) >= 0]
        delivered = sum(row.count("delivered") for row in known)
        return sum(row.count(key) for row in known) / delivered if delivered else None

    return Total(
        len(found),
        sum(row.send.audience_size or 0 for row in found),
        sum(row.count("delivered") for row in found),
        share("opened"),
        share("clicked"),
        share("converted"),
        share("unsubscribed"),
    )


@dataclasses.dataclass(frozen=True, slots=True)
class Weeks:
    """What went out in the last seven days, and in the seven days before."""

    last: Total
    before: Total


def weeks(session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> Weeks:
    """The sends of the last seven days together, and those of the seven days before. A week ends
    with this moment and begins at the same hour."""
    week = dt.timedelta(days=7)

    def until(end: dt.datetime) -> Total:
        narrowed = Narrowed(between=(end - week, end))
        return total(rows(session, narrowed, zone, "sent", True))

    # A send that is settled in this very moment belongs to the last week.
    end = now + dt.timedelta(seconds=1)
    return Weeks(until(end), until(end - week))


def by_month(found: Sequence[Row], zone: zoneinfo.ZoneInfo) -> list[Month]:
    """The same by month, from the first one with a send to the last, also those without."""
    of: dict[dt.date, list[Row]] = {}
    for row in found:
        assert row.send.taken_at is not None
        of.setdefault(row.send.taken_at.astimezone(zone).date().replace(day=1), []).append(row)
    made = []
    first, last = min(of, default=None), max(of, default=None)
    while first is not None and last is not None and first <= last:
        some = of.get(first, [])
        made.append(
            Month(
                first,
                len(some),
                *(
                    sum(row.count(key) for row in some)
                    for key in ("delivered", "opened", "clicked", "converted")
                ),
            )
        )
        first = (first + dt.timedelta(days=31)).replace(day=1)
    return made
