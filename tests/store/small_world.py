"""Forty people with everything a condition can ask for, and sends they got."""

import datetime as dt
import json
import random
import zoneinfo

import sqlalchemy as sa

from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import Topic
from meadowrun.people.queries import dictionary
from meadowrun.scores.models import ContactScore, Score
from meadowrun.segments import actions, why
from meadowrun.segments.models import Grouping
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tagging
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.work import delivered, dispatched, reacted

ZONE = zoneinfo.ZoneInfo("Europe/London")


TODAY = dt.date(2026, 11, 23)


#: What senders put where a number belongs.
ODD = ["forty", "", True, [], {}, "4,5", "٤٠", "NaN", "1e5", None, " 5"]


def build(session):
    """Forty people with blanks, leap days, odd capitals and far clocks; companies with several
    people, some without; mails.

    Returns them as the plain evaluator sees them, by number.
    """
    for label, kind, options in (
        ("tier", "choice", ["Single", "Patron"]),
        ("renewal", "date", []),
        ("score", "number", []),
        ("member", "yes_no", []),
        ("met", "datetime", []),
        ("interests", "choices", ["sky", "sea", "rock"]),
    ):
        people.add_field(session, IDA, NOW, "contact", label, kind, options)
    people.add_field(session, IDA, NOW, "company", "kind", "choice", ["School", "Club"])
    people.add_field(session, IDA, NOW, "company", "agreement ends", "date", [])
    ids = kinds(session)
    session.add(Topic(key="diary", name="Sky diary", about=""))
    session.flush()
    dice = random.Random(7)
    days = [
        "2026-11-23",
        "2026-11-24",
        "2027-01-01",
        "2024-02-29",
        "1990-12-31",
        "2026-11-22",
        "2026-10-25",
    ]
    zones = [None, "Europe/London", "Pacific/Auckland", "America/Los_Angeles", "Not/A_Zone"]
    sends = [
        send_of(session, n, tags)
        for n, tags in ((1, ["night"]), (2, ["night/dark", "free"]), (3, []))
    ]
    borne = tagging.numbers(session, NOW, ["free", "free/family", "night", "nightly"])
    session.execute(sa.text("UPDATE messages SET tags = :tags WHERE id = 3"), {"tags": borne[1:2]})
    made = []
    for n in range(40):
        given = {
            "town": dice.choice(["Farrow", "Tarnside", "FARROW", "Fárrow ", None]),
            "first_name": dice.choice(["Zoë", "Ann_", "50%", None]),
            "tier": dice.choice(["Single", "Patron", None]),
            "renewal": dice.choice([*days, None]),
            "score": dice.choice([0, 1, 2.5, 100, None]),
            "member": dice.choice(["yes", "no", None]),
            "met": dice.choice(
                [
                    None,
                    *(
                        f"{day} {hour}"
                        for day in days[:4]
                        for hour in ("00:00", "17:59", "18:00", "23:30")
                    ),
                ]
            ),
            "interests": dice.choice(["sky", "sky;sea", "rock", None]),
            "company": dice.choice(["School One", "Club Two", None]),
            "timezone": dice.choice(zones),
        }
        contact = add(
            session,
            NOW,
            dice.choice([f"p{n}@post.example", f"p{n}@post.example", None]),
            dice.choice([True, True, False, None]),
            **{k: v for k, v in given.items() if k != "timezone"},
            last_name=f"P{n}",
        )
        contact.timezone = given["timezone"]
        if n % 8 == 3:
            contact.email = contact.email_key = "shared@post.example"
            contact.email_usable = True
        made.append(contact.id)
        if dice.random() < 0.3:
            people.set_consent(session, NOW, contact.id, 1, dice.random() < 0.5, "test")
        for channel in ("sms", "push", "in_app"):
            for topic in (0, 1):
                if dice.random() < 0.6:
                    people.set_consent(
                        session, NOW, contact.id, topic, dice.random() < 0.7, "test", channel
                    )
        contact.phone = dice.choice(
            [
                f"+44 7700 9001{n:02}",
                f"+44 7700 9001{n:02}",
                "+44 7700 900555",
                "extension 12",
                None,
            ]
        )
        if dice.random() < 0.5:
            session.execute(
                sa.text(
                    "INSERT INTO push_devices (contact_id, kind, endpoint, p256dh, auth, since, "
                    "gone_at) VALUES (:c, 'ios', :e, '', '', :now, :gone)"
                ),
                {
                    "c": contact.id,
                    "e": f"token-{n:08}",
                    "now": NOW,
                    "gone": dice.choice([NOW, None, None]),
                },
            )
        for _ in range(dice.randrange(6)):
            # A clock elsewhere may run ahead of ours.
            at = NOW - dt.timedelta(
                days=dice.choice([0, 1, 2, 29, 30, 31, 90]), hours=dice.randrange(-20, 24)
            )
            details = dice.choice(
                [
                    {"amount": 24},
                    {"amount": 8, "night": "Moon night"},
                    {},
                    {"amount": "24.00"},
                    {"amount": dice.choice(ODD)},
                ]
            )
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "CAST(:d AS jsonb))"
                ),
                {
                    "c": contact.id,
                    "at": at,
                    "k": ids[dice.choice(list(ids))],
                    "d": json.dumps(details),
                },
            )
        for tag in borne:
            if dice.random() < 0.3:
                session.execute(
                    sa.text("INSERT INTO contact_tags VALUES (:c, :t)"), {"c": contact.id, "t": tag}
                )
        for send in sends:
            if dice.random() < 0.6:
                mailed(session, dice, contact.id, send)
    session.execute(
        sa.text(
            "UPDATE companies SET attributes = CASE name WHEN 'School One' THEN "
            'CAST(\'{"kind": "School", '
            '"agreement_ends": "2026-11-23"}\' AS jsonb) ELSE CAST(\'{"kind": "Club"}\' AS '
            "jsonb) END"
        )
    )
    session.execute(sa.text("UPDATE contacts SET bounced_at = :now WHERE id % 9 = 0"), {"now": NOW})
    keeping.suppress(session, NOW, "shared@post.example", "asked by letter", "desk")
    keeping.suppress(session, NOW, "+447700900555", "asked by letter", "desk")
    for channel in ("sms", "push", "in_app"):
        session.execute(
            sa.text(
                "INSERT INTO messages (name, channel, draft, document, created_at, changed_at, "
                "changed_by) VALUES (:n, :n, 1, '{}', :now, :now, '')"
            ),
            {"n": channel, "now": NOW},
        )
    keeping.make_list(session, IDA, NOW, "Guests", "by hand", made[::3])
    words = dictionary(session)
    actions.save(
        session,
        IDA,
        NOW,
        words,
        "Farrow",
        {"lines": [{"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["farrow"]}]},
    )
    session.add(Score(name="Interest", rules=[], version=1, changed_at=NOW, changed_by="Ida"))
    session.flush()
    for contact in made:
        if dice.random() < 0.5:
            points = dice.choice([-5.0, 0.5, 20.0, 20.5])
            session.add(ContactScore(contact_id=contact, score_id=1, points=points))
    session.add(
        Grouping(
            name="Tiers",
            version=1,
            created_at=NOW,
            changed_at=NOW,
            changed_by="Ida",
            groups=[
                {
                    "key": "p",
                    "name": "Patrons",
                    "lines": [
                        {
                            "id": "a",
                            "kind": "field",
                            "field": "tier",
                            "op": "is",
                            "value": ["Patron"],
                        }
                    ],
                },
                {
                    "key": "f",
                    "name": "Farrow",
                    "lines": [{"id": "a", "kind": "segment", "segment": 1}],
                },
            ],
        )
    )
    session.flush()
    words = dictionary(session)
    return {number: why.person(session, number, words) for number in made}


def send_of(session, number, tags):
    """A send that went out 40, 20 or 0 days ago; success is buying a ticket within 3 days."""
    ident = session.execute(
        sa.text(
            "INSERT INTO campaigns (name, kind, tags, created_at, changed_at) VALUES (:n, "
            "'Other', :tags, :now, :now) RETURNING id"
        ),
        {
            "n": f"Campaign {number}",
            "tags": tagging.numbers(session, NOW, sorted(tags)),
            "now": NOW,
        },
    ).scalar_one()
    message = session.execute(
        sa.text(
            "INSERT INTO messages (name, channel, draft, document, created_at, changed_at, "
            "changed_by) VALUES (:n, :ch, 1, '{}', :now, :now, '') "
            "RETURNING id"
        ),
        {"n": f"Message {number}", "now": NOW, "ch": "sms" if number == 2 else "email"},
    ).scalar_one()
    taken = NOW - dt.timedelta(days={1: 40, 2: 20, 3: 0}[number], hours=3)
    send = Send(
        campaign_id=ident,
        message_id=message,
        name=f"Send {number}",
        state="done",
        audience={},
        zone="UTC",
        success_event="ticket_bought",
        success_days=3,
        created_at=taken,
        changed_at=taken,
        consent_rule="agreed",
    )
    session.add(send)
    session.flush()
    dispatched(session, send, taken)
    return send


def mailed(session, dice, contact, send):
    outcome = dice.choice(
        ["delivered", "delivered", "delivered", "bounced", "no_consent", "in_doubt"]
    )
    at = (
        None
        if outcome == "no_consent"
        else send.taken_at + dt.timedelta(minutes=dice.randrange(50))
    )
    delivered(session, send, contact, outcome, at)
    if outcome == "delivered":
        for kind, machine in (
            ("opened", True),
            ("opened", False),
            ("clicked", False),
            ("unsubscribed", False),
            ("complained", False),
        ):
            if dice.random() < 0.35:
                reacted(
                    session,
                    send,
                    contact,
                    kind,
                    at + dt.timedelta(hours=dice.randrange(30)),
                    dice.randrange(2) if kind == "clicked" else None,
                    machine,
                )
