"""The calendar for somebody's own calendar program (iCalendar, RFC 5545): an address with a key,
which can be withdrawn."""

import datetime as dt
import secrets
from collections.abc import Sequence

import icalendar
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import NotFound
from meadowrun.calendar.models import CalendarFeed
from meadowrun.calendar.queries import Entry
from meadowrun.shell.accounts import token_hash
from meadowrun.shell.models import User

#: How far back and ahead it reaches.
BACK, AHEAD = dt.timedelta(days=60), dt.timedelta(days=180)
#: What a send takes in a calendar that knows no moments.
_LENGTH = dt.timedelta(minutes=30)


def make(session: orm.Session, actor: Actor, now: dt.datetime) -> str:
    """A new key for the calendar of a colleague; the one before does not open it any more."""
    key = secrets.token_urlsafe(24)
    found = session.get(CalendarFeed, actor.user_id, with_for_update=True)
    feed = found or CalendarFeed(user_id=actor.user_id)
    feed.token_hash, feed.made_at, feed.read_at = token_hash(key), now, None
    session.add(feed)
    audit.record(session, actor, now, "made the calendar address", "calendar", 0, actor.name)
    return key


def withdraw(session: orm.Session, actor: Actor, now: dt.datetime) -> None:
    """Takes the key of a colleague's calendar away, if there is one."""
    found = session.get(CalendarFeed, actor.user_id, with_for_update=True)
    if found is not None:
        session.delete(found)
        audit.record(
            session, actor, now, "withdrew the calendar address", "calendar", 0, actor.name
        )


def of(session: orm.Session, actor: Actor) -> CalendarFeed | None:
    """The address of a colleague's calendar, if they have one."""
    return session.get(CalendarFeed, actor.user_id) if actor.user_id is not None else None


def opened(session: orm.Session, now: dt.datetime, key: str) -> User:
    """Whose calendar a key opens. Raises NotFound for one that opens none."""
    feed = session.scalar(sa.select(CalendarFeed).where(CalendarFeed.token_hash == token_hash(key)))
    user = session.get(User, feed.user_id) if feed else None
    if feed is None or user is None or not user.active:
        raise NotFound("This calendar does not exist any more.")
    feed.read_at = now
    return user


def text(entries: Sequence[Entry], public_url: str, organisation: str, now: dt.datetime) -> bytes:
    """Entries as an iCalendar file."""
    made = icalendar.Calendar()
    made.add("prodid", "-//meadowrun//calendar//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", organisation)
    for entry in entries:
        event = icalendar.Event()
        host = public_url.partition("://")[2].partition("/")[0]
        event.add("uid", f"send-{entry.send.id}-{entry.at:%Y%m%dT%H%M}@{host}")
        event.add("dtstamp", now)
        event.add("dtstart", entry.at.astimezone(dt.UTC))
        event.add("dtend", (entry.at + _LENGTH).astimezone(dt.UTC))
        event.add("summary", entry.send.name)
        people = "" if entry.people is None else f", {entry.people:,} people"
        event.add("description", f"{entry.campaign.name}: {entry.channel}{people}")
        event.add("url", f"{public_url}/sends/{entry.send.id}")
        event.add("status", "TENTATIVE" if entry.send.taken_at is None else "CONFIRMED")
        made.add_component(event)
    return bytes(made.to_ical())
