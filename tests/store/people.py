"""A small world made by hand, for tests that need people in the database."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base.audit import Actor
from meadowrun.campaigns import actions as campaigns
from meadowrun.core.content import document as doc
from meadowrun.messages import actions as messages
from meadowrun.messages.senders import Sender
from meadowrun.people import actions as people
from meadowrun.people.models import EventKind
from meadowrun.sends import actions as sends

IDA = Actor(None, "Ida", "admin")


def add(session, now, email=None, agreed=True, **values):
    """A contact, who agreed to email unless told otherwise (None: was never asked)."""
    contact = people.save_contact(session, IDA, now, {"email": email, **values}, home="GB")
    if agreed is not None:
        people.set_consent(session, now, contact.id, 0, agreed, "test")
    return contact


def kinds(session):
    for key, did, do in (
        ("ticket_bought", "bought a ticket", "buy a ticket"),
        ("visited", "visited", "visit"),
    ):
        session.add(
            EventKind(
                key=key,
                did=did,
                do=do,
                details={
                    "amount": {"label": "amount", "type": "number"},
                    "night": {"label": "night", "type": "text"},
                },
            )
        )
    session.flush()
    return {k.key: k.id for k in session.scalars(sa.select(EventKind))}


def many(session, now, count, host="post.example"):
    """`count` contacts with consent, quickly."""
    session.execute(
        sa.text(
            "INSERT INTO contacts (email, email_key, email_usable, first_name, last_name, "
            "attributes, search_key, name_key, "
            "created_at, updated_at) SELECT 'p' || n || '@' || :host, 'p' || n || '@' || :host, "
            "true, 'First' || n, 'Last', '{}', "
            "'first' || n, 'last first' || n, :now, :now FROM generate_series(1, :count) n"
        ),
        {"count": count, "now": now, "host": host},
    )
    session.execute(
        sa.text(
            "INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how) "
            "SELECT id, 'email', 0, true, :now, 'test' FROM contacts ON CONFLICT DO NOTHING"
        ),
        {"now": now},
    )


def ready_send(session, now, audience, success="ticket_bought", topic_id=None):
    """A send with a good message, not yet started."""
    if success and not session.scalar(sa.select(EventKind)):
        kinds(session)
    document = doc.take(
        {
            "subject": "Hello {{ contact.first_name | default('you', true) }}",
            "preheader": "Look",
            "lines": [
                {
                    "id": "a",
                    "type": "text",
                    "html": "<p>Dear {{ contact.first_name | default('you', true) }}</p>",
                },
                {
                    "id": "b",
                    "type": "button",
                    "label": "Book",
                    "href": "https://farrowhill.example/book",
                },
                {
                    "id": "c",
                    "type": "text",
                    "html": (
                        '<p><a href="https://farrowhill.example/more?x={{ contact.town '
                        '}}">More</a></p>'
                    ),
                },
                {"id": "f", "type": "footer", "html": "<p>Farrow Hill</p>"},
            ],
        }
    )
    message = messages.create(
        session, IDA, now, f"Message {dt.datetime.now(dt.UTC).timestamp()}", document
    )
    session.add(Sender(name="The desk", address="desk@farrowhill.example", reply_to=""))
    campaign = campaigns.save(
        session, IDA, now, {"name": f"Campaign {message.id}", "facts": {"venue": "the dome"}}
    )
    send = sends.create(session, IDA, now, campaign, "A send", "Europe/London")
    sends.change(
        session,
        IDA,
        now,
        send,
        send.version,
        {
            "audience": audience,
            "message_id": message.id,
            "success_event": success,
            "success_days": 7,
            "topic_id": topic_id,
            "sender_id": session.scalar(sa.select(Sender.id)),
        },
    )
    session.flush()
    return send
