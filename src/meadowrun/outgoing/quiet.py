"""Quiet hours: hours of the night in which nothing but service messages leaves on a channel."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.channels import CHANNELS as NAMES
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import HoursError, minute_of, time_words
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing.models import QuietHours
from meadowrun.outgoing.timing import judge_again

#: What becomes of what would leave in them.
DOES = {"wait": Wording("wait until they end"), "drop": Wording("are not sent")}


def all_of(session: orm.Session) -> dict[str, QuietHours]:
    """The quiet hours that are set, by channel."""
    return {one.channel: one for one in session.scalars(sa.select(QuietHours))}


def channels() -> list[str]:
    """The channels that can have quiet hours: those whose messages reach somebody at once."""
    return [key for key, one in CHANNELS.items() if not one.waits_there]


def words(quiet: QuietHours) -> Wording:
    """Quiet hours in words: “from 21:00 to 08:00”."""
    return Wording(
        "from %(begins)s to %(ends)s",
        begins=time_words(quiet.begins),
        ends=time_words(quiet.ends),
    )


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    channel: str,
    begins: str,
    ends: str,
    does: str,
) -> QuietHours:
    """Sets the quiet hours of a channel. Raises Invalid naming the field."""
    if channel not in channels():
        raise Invalid("There is no such channel.", "channel")
    if does not in DOES:
        raise Invalid("Choose what becomes of messages in quiet hours.", "does")
    try:
        first, last = minute_of(begins), minute_of(ends)
    except HoursError as problem:
        raise Invalid(problem.args[0], "begins") from None
    if first == last:
        raise Invalid("Quiet hours end at another time than they begin.", "ends")
    found = session.get(QuietHours, channel, with_for_update=True)
    quiet = found or QuietHours(channel=channel)
    quiet.begins, quiet.ends, quiet.does = first, last, does
    quiet.changed_by, quiet.changed_at = actor.name, now
    session.add(quiet)
    _changed(session, actor, now, "set the quiet hours", quiet)
    return quiet


def delete(session: orm.Session, actor: Actor, now: dt.datetime, channel: str) -> None:
    """Takes the quiet hours of a channel away, if there are any."""
    found = session.get(QuietHours, channel, with_for_update=True)
    if found is not None:
        session.delete(found)
        _changed(session, actor, now, "deleted the quiet hours", found)


def _changed(
    session: orm.Session, actor: Actor, now: dt.datetime, did: str, quiet: QuietHours
) -> None:
    """Writes down that quiet hours are others, and has everybody judged again who waits."""
    name = f"{NAMES[quiet.channel]} {str.__str__(words(quiet))}"
    audit.record(session, actor, now, did, "quiet hours", 0, name)
    session.flush()
    judge_again(session, now)
    jobs.enqueue(session, "outgoing.sweep")
