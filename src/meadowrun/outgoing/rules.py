"""What holds for everything that is sent: a switch that pauses all marketing, and from how many
people on a second person approves."""

import datetime as dt

from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.naming import check
from meadowrun.outgoing.models import SendingRules


def rules(session: orm.Session) -> SendingRules:
    """As they are now."""
    return session.get_one(SendingRules, 1)


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
    """How sends are named; empty: as anybody likes. Raises PatternError."""
    found = session.get_one(SendingRules, 1, with_for_update=True)
    before = {"pattern": found.name_pattern}
    found.name_pattern = check(pattern)
    changed = audit.from_to(before, {"pattern": found.name_pattern})
    audit.record(session, actor, now, "changed the names of sends", "sending", 0, "", **changed)


def ask_second_person(
    session: orm.Session, actor: Actor, now: dt.datetime, above: int | None
) -> None:
    """A send to more people than `above` needs a second person; None: none does. Raises
    Invalid."""
    if above is not None and not 0 <= above <= 100_000_000:
        raise Invalid("Give a number of people, or leave it empty.", "above")
    found = session.get_one(SendingRules, 1, with_for_update=True)
    before = {"people": found.second_person_above}
    found.second_person_above = above
    changed = audit.from_to(before, {"people": above})
    audit.record(session, actor, now, "changed the approval of sends", "sending", 0, "", **changed)
