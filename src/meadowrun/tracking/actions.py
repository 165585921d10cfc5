"""What comes back: openings, clicks, unsubscriptions, bounces, complaints, answers; and the devices
that allow push notifications."""

import datetime as dt
import re
from collections.abc import Collection, Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import rows_changed
from meadowrun.base.errors import Invalid
from meadowrun.core import values, webpush
from meadowrun.core.guardrails.replies import meaning
from meadowrun.core.language import Wording
from meadowrun.gateways import outgoing
from meadowrun.outgoing import rules
from meadowrun.outgoing.hearing import hear
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.queries import numbered
from meadowrun.outgoing.timing import judge_again
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Consent, Contact
from meadowrun.people.queries import living

#: Words in the name of a program that opens pictures or links by itself.
_PROGRAMS = re.compile(
    r"bot\b|crawl|spider|proxy|preview|scan|prefetch|fetch|monitor|curl|wget|python|headless", re.I
)
#: Nobody opens a mail this soon after it was handed over.
TOO_SOON = dt.timedelta(seconds=2)


def dispatch_of(session: orm.Session, number: int, contact_id: int) -> Dispatch | None:
    """What sent the delivery that a token names."""
    sent = numbered(session, number, contact_id)
    return session.get(Dispatch, sent.dispatch_id) if sent else None


REACTED = """
INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, note)
VALUES (:contact, :at, :dispatch, :delivery, :kind, :link, :machine, :note)
"""


def react(
    session: orm.Session,
    now: dt.datetime,
    number: int,
    contact_id: int,
    kind: str,
    link: int | None = None,
    machine: bool = False,
    note: str = "",
) -> None:
    """Writes down one reaction to a delivery that exists; anything else is ignored."""
    sent = numbered(session, number, contact_id)
    if sent is None:
        return
    session.execute(
        sa.text(REACTED),
        {
            "contact": sent.contact_id,
            "at": now,
            "dispatch": sent.dispatch_id,
            "delivery": number,
            "kind": kind,
            "link": link,
            "machine": machine,
            "note": note[:300],
        },
    )
    if not machine:
        hear(session, sent.dispatch_id, [sent.contact_id], now)
    if kind in ("opened", "clicked") and not machine:
        # Somebody read it there: what bounced before was not the address.
        session.execute(
            sa.text("UPDATE contacts SET soft_bounces = 0 WHERE id = :id AND soft_bounces > 0"),
            {"id": sent.contact_id},
        )


def by_machine(
    session: orm.Session, now: dt.datetime, number: int, contact_id: int, agent: str, kind: str
) -> str:
    """Why a program, not a person, seems to have opened or clicked; empty for a person.

    Programs are told by the name they give, by opening sooner than anyone could, and by following
    several links within two seconds.
    """
    if not agent:
        return "no name of a mail app"
    if found := _PROGRAMS.search(agent):
        return f"the mail app calls itself “{found.group()}”"
    sent = numbered(session, number, contact_id)
    if (
        sent is not None
        and sent.at is not None
        and dt.timedelta(0) <= now - sent.at < TOO_SOON
        and not _waited(session, number, sent.contact_id)
    ):
        return "within two seconds of being handed over"
    if kind == "clicked":
        lately = session.execute(
            sa.text(
                "SELECT count(DISTINCT link) FROM reactions WHERE contact_id = :contact AND "
                "delivery = :delivery AND kind = 'clicked' AND at > :since AND at <= :now"
            ),
            {"contact": contact_id, "delivery": number, "since": now - TOO_SOON, "now": now},
        ).scalar_one()
        if lately >= 2:
            return "several links within two seconds"
    return ""


def _waited(session: orm.Session, number: int, contact_id: int) -> bool:
    """Whether it is an in-app message, which waits until somebody comes: whoever comes in the same
    second is no program."""
    return (
        session.execute(
            sa.text(
                "SELECT 1 FROM in_app_places WHERE contact_id = :contact AND delivery = :delivery"
            ),
            {"contact": contact_id, "delivery": number},
        ).scalar()
        is not None
    )


def unsubscribe(
    session: orm.Session, now: dt.datetime, number: int, contact_id: int, how: str
) -> None:
    """The person wants no more of this: of the dispatch's topic where it has one, else of all
    email."""
    dispatch = dispatch_of(session, number, contact_id)
    contact = living(session, contact_id)
    if dispatch is None or contact is None:
        return
    changed = people.set_consent(
        session, now, contact.id, dispatch.topic_id or 0, False, f"{how}, from “{dispatch.name}”"
    )
    if changed:
        react(session, now, number, contact_id, "unsubscribed", note=how)


def bounce(
    session: orm.Session, now: dt.datetime, number: int, contact_id: int, hard: bool, words: str
) -> None:
    """A mail came back after it was taken. A hard bounce stops mail to the address; several soft
    ones do, too."""
    contact = living(session, contact_id)
    sent = numbered(session, number, contact_id)
    if contact is None or sent is None or sent.outcome not in ("delivered", "in_doubt"):
        return
    sent.outcome, sent.note = "bounced", words[:300]
    react(
        session, now, number, contact_id, "bounced", note=("hard: " if hard else "soft: ") + words
    )
    session.flush()
    judge_again(session, now, [contact.id])
    of = [contact.id]
    rules.count_bounces(session, now, of if hard else [], [] if hard else of)
    session.expire(contact)


def complain(session: orm.Session, now: dt.datetime, number: int, contact_id: int) -> None:
    """Somebody called our mail a nuisance: never write to that address again."""
    contact = living(session, contact_id)
    dispatch = dispatch_of(session, number, contact_id)
    if contact is None or dispatch is None:
        return
    react(session, now, number, contact_id, "complained")
    people.set_consent(session, now, contact.id, 0, False, "complained about an email")
    if contact.email_key:
        keeping.suppress(
            session,
            now,
            contact.email_key,
            "complained about an email",
            f"{dispatch.owner_kind} {dispatch.owner_id}",
        )


#: The number of the last text message that somebody got.
LAST_TEXT = """
SELECT d.number FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE d.contact_id = :id AND s.channel = 'sms' AND d.outcome = 'delivered'
ORDER BY d.taken_at DESC, d.number DESC LIMIT 1
"""


def sms_answered(session: orm.Session, now: dt.datetime, number: str, text: str) -> str:
    """Somebody answered a text message: “stop” ends them, “start” begins them again. Says which was
    understood, if any."""
    meant = meaning(text)
    if not meant:
        return ""
    try:
        # Gateways name the number with its country, some without the plus.
        written = values.phone(number if number.strip().startswith("+") else f"+{number.strip()}")
    except values.ValueProblem:
        return ""
    for contact in session.scalars(sa.select(Contact).where(Contact.phone == written)):
        changed = people.set_consent(
            session, now, contact.id, 0, meant == "start", f"answered “{text.strip()[:40]}”", "sms"
        )
        last = session.execute(sa.text(LAST_TEXT), {"id": contact.id}).scalar()
        if changed and last and meant == "stop":
            react(session, now, last, contact.id, "unsubscribed", note="answered “stop”")
    return meant


def sms_failed(
    session: orm.Session, now: dt.datetime, number: int, contact_id: int, words: str
) -> None:
    """A receipt says that a text message that was taken did not arrive."""
    sent = numbered(session, number, contact_id)
    if sent is None or sent.outcome not in ("delivered", "in_doubt"):
        return
    sent.outcome, sent.note = "bounced", words
    react(session, now, number, contact_id, "bounced", note=words)


#: what a phone's system is called in a subscription → how people say it
SYSTEMS = {"android": "an Android phone", "ios": "an iPhone"}


#: Devices of a person that push notifications go to; with one more, the one that was given longest
#: ago no
#: longer counts.
MOST_DEVICES = 10
_DEVICE = """INSERT INTO push_devices (contact_id, kind, endpoint, p256dh, auth, since)
VALUES (:contact, :kind, :endpoint, :p256dh, :auth, :now)
ON CONFLICT (endpoint) DO UPDATE SET contact_id = excluded.contact_id, kind = excluded.kind,
p256dh = excluded.p256dh, auth = excluded.auth,
    since = excluded.since, gone_at = NULL
-- Whoever names a browser that is somebody else's must know its keys, as only that browser does.
-- A phone's token is such a key itself.
WHERE push_devices.contact_id = excluded.contact_id OR push_devices.kind <> 'web'
    OR push_devices.p256dh = excluded.p256dh AND push_devices.auth = excluded.auth"""
_TOO_MANY = """UPDATE push_devices SET gone_at = :now WHERE id IN (
    SELECT p.id FROM push_devices p WHERE p.contact_id = :contact AND p.gone_at IS NULL
    ORDER BY p.since DESC, p.id DESC OFFSET :most)"""


def subscribe_device(
    session: orm.Session,
    now: dt.datetime,
    contact_id: int,
    subscription: Any,
    inner: Collection[str] = (),
) -> bool:
    """A device's permission for push notifications: {"endpoint", "keys": {"p256dh", "auth"}}, as
    browsers give it, or {"system", "token"} as our app on a phone does; `inner` are the machines
    inside this network that may be named. Whoever said no to push notifications has not taken it
    back by this, since a link in an email may have made their browser known: gives whether push
    notifications go there. Raises Invalid."""
    system = subscription.get("system") if isinstance(subscription, Mapping) else None
    if system is not None:
        endpoint, p256dh, auth = _phone(system, str(subscription.get("token", ""))), "", ""
    else:
        endpoint, p256dh, auth = _browser(subscription, inner)
    done = session.execute(
        sa.text(_DEVICE),
        {
            "contact": contact_id,
            "kind": system or "web",
            "endpoint": endpoint,
            "p256dh": p256dh,
            "auth": auth,
            "now": now,
        },
    )
    if not rows_changed(done):
        raise Invalid("This device is known as somebody else's.", "subscription")
    session.execute(sa.text(_TOO_MANY), {"contact": contact_id, "now": now, "most": MOST_DEVICES})
    said = session.get(Consent, (contact_id, "push", 0))
    if said is not None and not said.agreed:
        return False
    where = f"on {SYSTEMS[system]}" if system else "in a browser"
    how = f"allowed push notifications {where}"
    people.set_consent(session, now, contact_id, 0, True, how, "push")
    return True


def _phone(system: object, token: str) -> str:
    """The token of our app on a phone. Raises Invalid."""
    known = isinstance(system, str) and system in SYSTEMS
    if not known or not re.fullmatch(r"[\w:.-]{8,400}", token):
        raise Invalid(
            Wording(
                "A phone names its system (%(systems)s) and the token it got.",
                systems=", ".join(SYSTEMS),
            ),
            "subscription",
        )
    return token


def _browser(subscription: Any, inner: Collection[str]) -> tuple[str, str, str]:
    """Endpoint and keys of a browser's subscription. Raises Invalid."""
    try:
        endpoint, keys = str(subscription["endpoint"]), subscription["keys"]
        p256dh, auth = str(keys["p256dh"]), str(keys["auth"])
        webpush.encrypt(b"", p256dh, auth)
    except (KeyError, TypeError, webpush.PushProblem):
        raise Invalid("This is not a subscription as browsers give it.", "subscription") from None
    inside = outgoing.machine_of(endpoint) & set(inner)
    if not endpoint.startswith("https://") and not inside or len(endpoint) > 1000:
        raise Invalid("A push service is named by an https address.", "subscription")
    if wrong := outgoing.problem(endpoint, inner):
        raise Invalid(
            Wording("A push service is named by an https address: %(wrong)s.", wrong=wrong),
            "subscription",
        )
    return endpoint, p256dh, auth


def delivery_of_code(session: orm.Session, code: str) -> tuple[int, int] | None:
    """(number of the delivery, contact) of a short code; None when we never made it."""
    row = session.execute(
        sa.text("SELECT delivery, contact_id FROM short_codes WHERE code = :code"), {"code": code}
    ).first()
    return (row[0], row[1]) if row else None
