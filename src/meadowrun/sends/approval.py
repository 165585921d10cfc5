"""A send to many people is approved by somebody else than whoever asks for it."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import wording
from meadowrun.core.language import Wording
from meadowrun.outgoing.rules import rules
from meadowrun.sends.actions import check_ready, start
from meadowrun.sends.models import Send
from meadowrun.sends.timing import has_passed
from meadowrun.shell import accounts, telling


def is_needed(session: orm.Session, going: int) -> bool:
    """Whether a send to so many people needs a second person."""
    above = rules(session).second_person_above
    return above is not None and going > above


def ask(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    public_url: str,
    going: int,
    based_on: int,
) -> None:
    """Asks everybody who may approve it, but for whoever asks, and tells those who wish it. Raises
    Conflict or Invalid as a start does."""
    check_ready(session, now, send, public_url, going, based_on)
    send.asked_by_id, send.asked_by, send.asked_at = actor.user_id, actor.name, now
    send.asked_version, send.asked_people = send.version, going
    send.approved_by = send.refused_by = send.refused_why = ""
    session.flush()
    audit.record(session, actor, now, "asked to approve", "send", send.id, send.name, people=going)
    for user in accounts.people_who(session, "approver"):
        if user.id != actor.user_id:
            telling.tell(
                session,
                now,
                user.id,
                f"approve:{send.id}:{send.version}:{now.timestamp():.0f}",
                f"“{send.name}” waits for your approval",
                f"{actor.name} asks you to approve it: {wording.people(going)} would get it.",
                f"/sends/{send.id}",
            )


def approve(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    send: Send,
    public_url: str,
    going: int,
    based_on: int,
) -> None:
    """Approves a send that waits for it, and lets it go or plans it. Raises Conflict for whoever
    asked, and for one that does not wait; Invalid as a start does."""
    _waiting(session, actor, send)
    send.approved_by = actor.name
    # Kept before the start reads it anew.
    session.flush()
    audit.record(session, actor, now, "approved", "send", send.id, send.name, people=going)
    start(session, actor, now, send, public_url, going, based_on, approved=True)
    _tell_asker(session, now, send, f"“{send.name}” was approved", f"{actor.name} approved it.")


def refuse(session: orm.Session, actor: Actor, now: dt.datetime, send: Send, why: str) -> None:
    """Refuses a send that waits for approval, with a word for whoever asked. Raises Conflict or
    Invalid."""
    why = " ".join(why.split())[:500]
    if not why:
        raise Invalid("Say briefly why, so that it can be changed.", "why")
    _waiting(session, actor, send)
    send.asked_version = None
    send.refused_by, send.refused_why = actor.name, why
    audit.record(session, actor, now, "refused", "send", send.id, send.name, why=why)
    _tell_asker(session, now, send, f"“{send.name}” was not approved", f"{actor.name}: {why}")


def tell_passed(session: orm.Session, now: dt.datetime) -> None:
    """Tells both sides of sends whose moment passed before anybody approved them: they do not
    go."""
    asked = sa.select(Send).where(
        Send.state == "draft", Send.asked_version == Send.version, Send.leaves_at < now
    )
    for send in session.scalars(asked.with_for_update(skip_locked=True)):
        if not has_passed(session, send, now):
            continue
        send.asked_version = None
        send.problem = "Nobody approved it before its time came, so it did not go out."
        said = f"“{send.name}” was not approved in time"
        _tell_asker(session, now, send, said, send.problem)
        for user in accounts.people_who(session, "approver"):
            if user.id != send.asked_by_id:
                about = f"passed:{send.id}:{now.timestamp():.0f}"
                path = f"/sends/{send.id}"
                telling.tell(session, now, user.id, about, said, send.problem, path)


def waiting(session: orm.Session, actor: Actor) -> list[Send]:
    """The sends that wait for the approval of a colleague, the oldest first."""
    return list(
        session.scalars(
            sa.select(Send)
            .where(
                Send.state == "draft",
                Send.asked_version == Send.version,
                Send.asked_by_id.is_distinct_from(actor.user_id),
            )
            .order_by(Send.asked_at)
        )
    )


def _waiting(session: orm.Session, actor: Actor, send: Send) -> None:
    """Locks a send that waits for approval. Raises Conflict for one that does not, and for whoever
    asked."""
    session.refresh(send, with_for_update=True)
    if not send.is_asked:
        raise Conflict("This send does not wait for approval any more. Review it once more.")
    if actor.user_id is not None and actor.user_id == send.asked_by_id:
        raise Conflict("You asked for this approval: somebody else has to give it.")


def _tell_asker(
    session: orm.Session, now: dt.datetime, send: Send, subject: str, body: str
) -> None:
    if send.asked_by_id is not None:
        about = f"answer:{send.id}:{now.timestamp():.0f}"
        telling.tell(session, now, send.asked_by_id, about, subject, body, f"/sends/{send.id}")


def needed_words(session: orm.Session) -> Wording:
    """From how many people on a second person is needed, in words."""
    above = rules(session).second_person_above or 0
    return Wording(
        "A send to more than %(people)s needs a second person.", people=wording.people(above)
    )
