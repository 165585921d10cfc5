"""What holds for everything that is sent: a switch that pauses all marketing, and from how many
people on a second person approves."""

import datetime as dt
from typing import Any

from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.naming import check
from meadowrun.outgoing.models import SendingRules
from meadowrun.people import keeping


def rules(session: orm.Session) -> SendingRules:
    """As they are now."""
    return session.get_one(SendingRules, 1)


def change(session: orm.Session, actor: Actor, now: dt.datetime, did: str, **values: Any) -> None:
    """Sets some of the rules by their columns; `did` says what was done, in the record of
    changes."""
    found = session.get_one(SendingRules, 1, with_for_update=True)
    before = {name: getattr(found, name) for name in values}
    for name, value in values.items():
        setattr(found, name, value)
    session.flush()
    changed = audit.from_to(before, values)
    audit.record(session, actor, now, did, "sending", 0, "", **changed)


def pause(session: orm.Session, actor: Actor, now: dt.datetime, service_too: bool) -> None:
    """From now on nothing leaves but service messages, or not even those. What is being handed over
    finishes."""
    found = session.get_one(SendingRules, 1, with_for_update=True)
    found.paused_at = found.paused_at or now
    found.paused_by, found.pauses_service = actor.name, service_too
    did = "paused everything" if service_too else "paused all marketing"
    audit.record(session, actor, now, did, "sending", 0, "")


def resume(session: orm.Session, actor: Actor, now: dt.datetime) -> None:
    """Everything goes on; what came too late meanwhile is judged by its last moment."""
    found = session.get_one(SendingRules, 1, with_for_update=True)
    if found.paused_at is None:
        return
    found.paused_at, found.paused_by, found.pauses_service = None, "", False
    audit.record(session, actor, now, "resumed sending", "sending", 0, "")
    session.flush()
    jobs.enqueue(session, "outgoing.sweep")


def name_sends(session: orm.Session, actor: Actor, now: dt.datetime, pattern: str) -> None:
    """How sends are named; empty: no rule. Raises PatternError."""
    change(session, actor, now, "changed the names of sends", name_pattern=check(pattern))


def count_bounces(session: orm.Session, now: dt.datetime, hard: list[int], soft: list[int]) -> None:
    """Bounces of some contacts' addresses, counted by the numbers that are set here."""
    found = rules(session)
    keeping.count_bounces(session, now, hard, soft, found.soft_most, found.soft_days)


def take_mail(session: orm.Session, actor: Actor, now: dt.datetime, takes: bool) -> None:
    """Whether what people write back comes to us first."""
    change(session, actor, now, "changed where replies go", takes_mail=takes)


def set_soft_bounces(
    session: orm.Session, actor: Actor, now: dt.datetime, most: int, days: int
) -> None:
    """After how many soft bounces within how many days an address is not written to any more.
    Raises Invalid."""
    if not 1 <= most <= 50:
        raise Invalid("Choose between 1 and 50 soft bounces.", "soft_most")
    if not 1 <= days <= 365:
        raise Invalid("Choose between 1 and 365 days.", "soft_days")
    did = "changed when soft bounces end writing"
    change(session, actor, now, did, soft_most=most, soft_days=days)


def ask_second_person(
    session: orm.Session, actor: Actor, now: dt.datetime, above: int | None
) -> None:
    """A send to more people than `above` needs a second person; None: none does. Raises
    Invalid."""
    if above is not None and not 0 <= above <= 100_000_000:
        raise Invalid("Give a number of people, or nothing.", "above")
    change(session, actor, now, "changed the approval of sends", second_person_above=above)
