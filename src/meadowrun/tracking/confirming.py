"""What somebody asks for is done once it is confirmed by a message to the address it is about:
signing up, more topics, an address of their own.

The message needs no consent, since it only asks; it goes to an address once a day at most, and
never to one that is suppressed. What is not confirmed is deleted after some days.
"""

import datetime as dt
import hashlib
import secrets
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.db import Base, rows_changed
from meadowrun.base.errors import GatewayUnavailable, Invalid, NotFound
from meadowrun.base.logs import log
from meadowrun.base.settings import Settings
from meadowrun.core import values
from meadowrun.core.language import Wording, in_language
from meadowrun.gateways.email import Letter
from meadowrun.gateways.handing import Gateway
from meadowrun.people import actions as people
from meadowrun.people import reader_language
from meadowrun.people.models import Consent, Contact, Suppression, Topic
from meadowrun.people.queries import living

#: What is not confirmed after so many days is deleted.
KEPT_DAYS = 7
#: An address is asked once within this.
ONCE = dt.timedelta(days=1)
#: For one person so many addresses are asked within it: whoever holds a link cannot have many
#: strangers written to.
MOST_ADDRESSES = 3
#: After so many tries, with growing gaps between them, it is given up.
MOST_TRIES = 6
#: So many leave at once.
MOST_AT_ONCE = 100
#: Where somebody asked who came by the link in an email.
PREFERENCE_PAGE = "the preference page"


#: Waits until nobody else asks the same address.
_ONE_BY_ONE = "SELECT pg_advisory_xact_lock(hashtextextended(:key, 7))"


class Confirmation(Base):
    """Something that somebody asked for, and that waits for a yes from the address."""

    __tablename__ = "confirmations"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    kind: orm.Mapped[str] = orm.mapped_column(
        sa.Text, sa.CheckConstraint("kind IN ('sign_up', 'address')", name="kind")
    )
    #: whom it is about, where they are on file
    contact_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), index=True
    )
    #: the address that is asked, as it was typed, and as it is compared
    email: orm.Mapped[str]
    email_key: orm.Mapped[str] = orm.mapped_column(index=True)
    #: the numbers of the topics that are wished for; 0: all email
    topics: orm.Mapped[list[int]] = orm.mapped_column(server_default="{}")
    #: what else was told of the person, by field
    details: orm.Mapped[dict[str, Any]] = orm.mapped_column(server_default=sa.text("'{}'"))
    #: where it was asked for, and what was said there
    source: orm.Mapped[str]
    said: orm.Mapped[str]
    asked_at: orm.Mapped[dt.datetime]
    #: SHA-256 of what stands in the address of the confirming page
    token_hash: orm.Mapped[str | None] = orm.mapped_column(unique=True)
    mailed_at: orm.Mapped[dt.datetime | None]
    next_at: orm.Mapped[dt.datetime]
    tries: orm.Mapped[int] = orm.mapped_column(sa.SmallInteger, server_default="0")
    confirmed_at: orm.Mapped[dt.datetime | None]


def ask(
    session: orm.Session,
    now: dt.datetime,
    kind: str,
    email: str,
    topics: Sequence[int],
    source: str,
    said: str,
    contact_id: int | None = None,
    details: Mapping[str, Any] | None = None,
) -> None:
    """Has an address asked. Whether it is on file, suppressed, or was asked already is not told to
    whoever asks. Raises Invalid for what is no address, or a topic that is none."""
    email = email.strip()
    if problem := values.email_problem(email):
        raise Invalid(Wording("%(problem)s.", problem=problem), "email")
    known = {0, *session.scalars(sa.select(Topic.id))}
    if set(topics) - known:
        raise Invalid("There is no such topic.", "topics")
    key = values.email_key(email)
    if _is_suppressed(session, key):
        return
    session.execute(
        sa.text("SELECT pg_advisory_xact_lock(hashtextextended(:key, 7))"), {"key": key}
    )
    same = session.scalars(
        sa.select(Confirmation)
        .where(
            Confirmation.email_key == key,
            Confirmation.kind == kind,
            Confirmation.confirmed_at.is_(None),
            Confirmation.asked_at > now - ONCE,
        )
        .order_by(Confirmation.id.desc())
        .limit(1)
    ).first()
    if same is not None and same.contact_id == contact_id:
        # One message a day; it confirms what was wished for last.
        same.topics = sorted({*same.topics, *topics})
        same.details = {**same.details, **(details or {})}
        return
    if same is not None:
        return
    if contact_id is not None and _asked_today(session, now, contact_id) >= MOST_ADDRESSES:
        raise Invalid("You asked for several things today already. Try again tomorrow.", "email")
    session.add(
        Confirmation(
            kind=kind,
            contact_id=contact_id,
            email=email,
            email_key=key,
            topics=sorted(set(topics)),
            details=dict(details or {}),
            source=source[:200],
            said=said[:2000],
            asked_at=now,
            next_at=now,
        )
    )
    session.flush()


def _asked_today(session: orm.Session, now: dt.datetime, contact_id: int) -> int:
    """How many addresses were asked for one person within a day."""
    counted = sa.select(sa.func.count()).where(
        Confirmation.contact_id == contact_id, Confirmation.asked_at > now - ONCE
    )
    return session.scalar(counted) or 0


def _is_suppressed(session: orm.Session, key: str) -> bool:
    asked = sa.select(Suppression.address_key).where(
        Suppression.address_key.in_((key, f"@{key.rpartition('@')[2]}"))
    )
    return session.scalar(asked.limit(1)) is not None


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode(errors="replace")).hexdigest()


def waiting(session: orm.Session, token: str) -> Confirmation:
    """What a token stands for. Raises NotFound for one that is none, or too old."""
    found = session.scalars(
        sa.select(Confirmation).where(Confirmation.token_hash == _hash(token))
    ).first()
    if found is None:
        raise NotFound("This link is not valid any more. Please ask again for what you want.")
    return found


def confirm(session: orm.Session, now: dt.datetime, token: str) -> Confirmation:
    """Does what was asked for; a second time changes nothing. Raises NotFound; Invalid when the
    address belongs to somebody else by now."""
    found = waiting(session, token)
    session.refresh(found, with_for_update=True)
    if found.confirmed_at is not None:
        return found
    actor = Actor(None, found.email, "author")
    contact = living(session, found.contact_id) if found.contact_id else None
    if found.kind == "address" and contact is not None:
        people.save_contact(session, actor, now, {"email": found.email}, contact)
    elif found.kind == "sign_up":
        contact = contact or _on_file(session, found) or _new(session, actor, now, found)
    if contact is None:
        raise NotFound("Nobody is on file for this link any more.")
    how = _evidence(found, now)
    for topic in found.topics:
        people.set_consent(session, now, contact.id, topic, True, how)
    if found.topics and 0 not in found.topics:
        _lift_whole_no(session, now, contact.id, found.topics, how)
    found.contact_id, found.confirmed_at = contact.id, now
    session.flush()
    return found


def _lift_whole_no(
    session: orm.Session, now: dt.datetime, contact_id: int, topics: Sequence[int], how: str
) -> None:
    """A no to all email outweighs every topic: whoever now wishes for one says yes to email again,
    and no to every other topic that they never agreed to."""
    whole = session.get(Consent, (contact_id, "email", 0))
    if whole is None or whole.agreed:
        return
    others = set(session.scalars(sa.select(Topic.id))) - set(topics)
    for topic in sorted(others):
        people.set_consent(session, now, contact_id, topic, False, how)
    people.set_consent(session, now, contact_id, 0, True, how)


def _on_file(session: orm.Session, found: Confirmation) -> Contact | None:
    """Whoever has the address already; of several the oldest record."""
    return session.scalars(
        sa.select(Contact).where(Contact.email_key == found.email_key).order_by(Contact.id).limit(1)
    ).first()


def _new(session: orm.Session, actor: Actor, now: dt.datetime, found: Confirmation) -> Contact:
    given = {**found.details, "email": found.email}
    return people.save_contact(session, actor, now, given, source=found.source)


def _evidence(found: Confirmation, now: dt.datetime) -> str:
    """How consent was given, in words that are kept with it."""
    return (
        f"asked for on {found.source}, {found.asked_at:%Y-%m-%d %H:%M} UTC (“{found.said}”), and "
        f"confirmed from {found.email}, {now:%Y-%m-%d %H:%M} UTC"
    )[:1000]


def expire(session: orm.Session, now: dt.datetime) -> int:
    """Deletes what was not confirmed in time. Says how much."""
    done = session.execute(
        sa.delete(Confirmation).where(
            Confirmation.confirmed_at.is_(None),
            Confirmation.asked_at < now - dt.timedelta(days=KEPT_DAYS),
        )
    )
    return rows_changed(done)


def send_due(
    session: orm.Session,
    gateway: Gateway,
    settings: Settings,
    sender: tuple[str, str],
    now: dt.datetime,
) -> int:
    """Asks the addresses that are due; says how many were. `sender` is the name and the address
    that the messages are from."""
    rows = session.scalars(
        sa.select(Confirmation)
        .where(
            Confirmation.mailed_at.is_(None),
            Confirmation.confirmed_at.is_(None),
            Confirmation.next_at <= now,
            Confirmation.tries < MOST_TRIES,
        )
        .order_by(Confirmation.id)
        .limit(MOST_AT_ONCE)
        .with_for_update(skip_locked=True)
    ).all()
    topics = {topic.id: topic for topic in session.scalars(sa.select(Topic))}
    letters = []
    for row in rows:
        contact = living(session, row.contact_id) if row.contact_id else None
        on_file = contact.language if contact else row.details.get("language")
        code = reader_language.chosen(on_file)
        with reader_language.reading(code):
            letters.append(_letter(row, settings, sender, topics, code, now))
    # Written before they leave: a link that arrives is one that works.
    session.flush()
    taken = set()
    try:
        for handed in gateway.hand_over(letters):
            if handed.outcome in ("delivered", "in_doubt"):
                taken.add(handed.contact_id)
            else:
                log.warning("an address could not be asked", outcome=handed.outcome)
    except GatewayUnavailable as problem:
        log.warning("addresses could not be asked", reason=str(problem))
    for row in rows:
        row.tries += 1
        if row.id in taken:
            row.mailed_at = now
        else:
            row.next_at = now + dt.timedelta(minutes=2**row.tries)
    session.flush()
    return len(taken)


def _letter(
    row: Confirmation,
    settings: Settings,
    sender: tuple[str, str],
    topics: Mapping[int, Topic],
    code: str,
    now: dt.datetime,
) -> Letter:
    """What asks an address, in a language, which is the one that is read just now."""
    token = secrets.token_urlsafe(24)
    row.token_hash = _hash(token)
    address = f"{settings.public_url}/confirm/{token}"
    named = [reader_language.name_of(topics[one], code) for one in row.topics if one in topics]
    wished = ", ".join(named) or Wording("our emails")
    source = Wording(PREFERENCE_PAGE) if row.source == PREFERENCE_PAGE else row.source
    if row.kind == "address":
        asked = Wording(
            "Somebody (you, we hope) asked us to write to this address from now on (%(source)s).",
            source=source,
        )
    else:
        asked = Wording(
            "Somebody (you, we hope) asked for %(wished)s at this address (%(source)s).",
            wished=wished,
            source=source,
        )
    rest = Wording(
        "If it was not you, do nothing: nothing more is sent, and this is deleted in %(days)s "
        "days.",
        days=KEPT_DAYS,
    )
    opens = Wording("To confirm it, open this page:")
    text = "\n\n".join([*map(in_language, (asked, opens)), address, in_language(rest)]) + "\n"
    if settings.postal_address:
        text += f"\n{settings.organisation}, {settings.postal_address}\n"
    key = f"confirm-{row.id}-{row.tries}"
    subject = Wording("Please confirm: %(organisation)s", organisation=settings.organisation)
    return Letter(
        key=key,
        contact_id=row.id,
        from_name=sender[0],
        from_address=sender[1],
        reply_to="",
        to=row.email,
        return_path=f"confirm@{settings.mail_domain}",
        subject=in_language(subject),
        html="",
        text=text,
        date=now.timestamp(),
        message_id=f"<{key}.{secrets.token_hex(6)}@{settings.mail_domain}>",
    )
