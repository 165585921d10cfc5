"""Sends that repeat: each date of theirs is a send of its own, with an audience worked out anew."""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Mapping

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.manifest import numbers_of
from meadowrun.campaigns.models import Campaign
from meadowrun.core import wording
from meadowrun.core.timing.rhythm import Rhythm
from meadowrun.core.timing.zones import moment_of
from meadowrun.outgoing.models import Holidays
from meadowrun.outgoing.queries import tally
from meadowrun.sends.actions import settle_content
from meadowrun.sends.models import Send
from meadowrun.sends.timing import date_starts, dates_ahead, first_local, next_date

#: What a date of a send that repeats takes from it.
SHARED = (
    "campaign_id",
    "audience",
    "message_id",
    "takes",
    "sender_id",
    "topic_id",
    "consent_rule",
    "audience_limit",
    "limit_rule",
    "control",
    "passed",
    "hours",
    "best_hour",
    "portion_size",
    "portion_gap",
    "stop_percent",
    "again_rule",
    "again_days",
    "obeys_caps",
    "counts",
    "no_room",
    "still_in",
    "within_hours",
    "at_last",
    "zone",
    "success_event",
    "success_days",
    "started_by",
)


def begin_date(
    session: orm.Session, actor: Actor, now: dt.datetime, send: Send, public_url: str
) -> Send | None:
    """Starts the date of a locked send that repeats which is due, with the message and the facts as
    they are now, and plans the next. Of several that are due, since nothing worked meanwhile, only
    the last goes, and none that is older than the send may take; the others count as missed. None:
    nothing starts."""
    if _reaches_nobody(session, send):
        _end(send, now)
        return None
    following = send.next_local
    date: dt.datetime | None = None
    while following is not None and date_starts(session, send, following) <= now:
        send.missed += date is not None
        date, following = following, next_date(session, send, following)
    plan_next(session, now, send, following)
    if date is None:
        return None
    begun = date_starts(session, send, date)
    if begun + dt.timedelta(hours=send.within_hours) <= now:
        send.missed += 1
        return None
    made = Send(
        **{name: getattr(send, name) for name in SHARED},
        name=f"{send.name}, {wording.day(date.date())}",
        state="taking",
        repeats_id=send.id,
        leaves_at=moment_of(date, zoneinfo.ZoneInfo(send.zone)),
        local_at=date if send.local_at is not None else None,
        begins_at=begun,
        created_at=now,
        changed_at=now,
    )
    session.add(made)
    session.flush()
    settle_content(session, actor, now, made, public_url)
    audit.record(session, actor, now, "started", "send", made.id, made.name)
    return made


def plan_next(
    session: orm.Session, now: dt.datetime, send: Send, following: dt.datetime | None
) -> None:
    """Plans the next date of a send that repeats; without one it is over."""
    send.next_local = following
    if following is None:
        _end(send, now)
    else:
        send.begins_at = date_starts(session, send, following)


def _end(send: Send, now: dt.datetime) -> None:
    send.state, send.finished_at = "done", now
    send.next_local = send.begins_at = None


def _reaches_nobody(session: orm.Session, send: Send) -> bool:
    """Whether a send that repeats until nobody is left has come to its end: its last date is over,
    and nobody got it."""
    if not send.ends_empty:
        return False
    last = session.scalar(
        sa.select(Send).where(Send.repeats_id == send.id).order_by(Send.id.desc()).limit(1)
    )
    if last is None or last.state != "done":
        return False
    return not tally(session, last.dispatch_id).get("delivered", 0)


@dataclasses.dataclass(frozen=True, slots=True)
class Date:
    """One date to come: the local time, when it starts, and the holiday that it is."""

    local: dt.datetime
    starts: dt.datetime
    holiday: str


def ahead(session: orm.Session, send: Send, most: int = 10) -> list[Date]:
    """The next dates of a send that repeats."""
    calendar = send.hours.get("calendar")
    found = session.get(Holidays, calendar) if calendar else None
    days = found.days if found else {}
    return [
        Date(local, date_starts(session, send, local), days.get(local.date().isoformat(), ""))
        for local in dates_ahead(send, most)
    ]


def of(session: orm.Session, send: Send) -> list[tuple[Send, Mapping[str, int]]]:
    """The dates of a send that repeats which have started, the latest first, each with its
    numbers."""
    found = session.scalars(
        sa.select(Send).where(Send.repeats_id == send.id).order_by(Send.id.desc()).limit(100)
    ).all()
    return [(one, numbers_of(session, one.id)) for one in found]


def between(
    session: orm.Session, first: dt.datetime, until: dt.datetime
) -> list[tuple[Send, Campaign, dt.datetime]]:
    """The dates to come of sends that repeat within a span, each with its campaign and moment."""
    found = []
    repeating = session.execute(
        sa.select(Send, Campaign)
        .join(Campaign, Campaign.id == Send.campaign_id)
        .where(Send.state == "planned", Send.rhythm != "", Send.begins_at < until)
    ).all()
    for row in repeating:
        send, campaign = row[0], row[1]
        for local in Rhythm.of(send.rhythm).dates(first_local(send)):
            moment = moment_of(local, zoneinfo.ZoneInfo(send.zone))
            if moment >= until:
                break
            if moment >= first and (send.next_local is None or local >= send.next_local):
                found.append((send, campaign, moment))
    return sorted(found, key=lambda one: one[2])
