"""Puts the demo world into a database: people, what they did, what was written and sent, and its
results."""

import datetime as dt
import json
import zoneinfo
from collections.abc import Callable
from typing import Any

import numpy as np
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.db import Database, ensure_months
from meadowrun.base.settings import Settings
from meadowrun.core.wording import fold
from meadowrun.demo import bulk, journeys, names, objects, past_sends, stories, world
from meadowrun.demo.stories import IDA
from meadowrun.demo.topics import topics
from meadowrun.features import load_tasks
from meadowrun.messages import mail_keys
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import best_hours
from meadowrun.outgoing import rules as sending
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import EventKind
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.results.queries import refresh_numbers
from meadowrun.scores import actions as scores
from meadowrun.scores.working import work_out
from meadowrun.sends.models import Send
from meadowrun.shell import accounts
from meadowrun.shell.models import ApiKey

#: A world with so many past sends is whole: journeys have run in it, too.
WHOLE = 20
Say = Callable[[str], None]


def load(
    database: Database, settings: Settings, scale: int, site: str, say: Say, sends: int = 25
) -> world.World:
    """Makes and stores a world of `scale` contacts; `site` is the address of the village's website.

    Returns the world, with the hidden truth that the village's people are made from.
    """
    moment = clock.machine_now().replace(microsecond=0)
    load_tasks(True)
    with database.session() as session:
        ensure_months(
            session,
            (moment - dt.timedelta(days=31 * 16)).date(),
            (moment + dt.timedelta(days=100)).date(),
        )
    say(f"{scale:,} people")
    made = world.make(scale, moment)
    with bulk.indexes_later(database, "contacts", "consent_changes", "events"):
        with database.session() as session:
            _dictionary(session, moment - dt.timedelta(days=420))
            _organisation(session, moment, settings, site)
        with database.session() as session:
            bulk.trusted(session)
            _people(session, made)
            _consent(session, made)
        say("what they did in fourteen months")
        _events(database, made)
        say("indexes")
    with database.session() as session:
        session.execute(sa.text("ANALYZE contacts, companies, consents, events"))
    say("segments, messages and campaigns")
    with database.session() as session:
        objects.make(session, moment, settings)
    say(f"{sends} past sends and what came of them")
    with bulk.indexes_later(database, "deliveries", "reactions"):
        for number in range(sends):
            with database.session() as session:
                past_sends.add(session, made, number, sends)
    with database.session() as session:
        session.execute(sa.text("ANALYZE"))
    if settings.village_url and sends >= WHOLE:
        say("journeys and who is on them")
        _journeys(database, made, settings)
    # After the statistics: without them, counting reactions is planned badly.
    with database.session() as session:
        for send in session.scalars(sa.select(Send).where(Send.taken_at.is_not(None))):
            refresh_numbers(session, send, made.moment)
        best_hours.learn(session, made.moment, zoneinfo.ZoneInfo(settings.timezone))
        _sign(session, made.moment, settings)
    _scores(database, made.moment, settings)
    return made


def _journeys(database: Database, made: world.World, settings: Settings) -> None:
    """Journeys that run since some weeks, and what people did with what these sent them, by the
    hidden truth."""
    kinds: dict[str, int] = {}

    def react(
        session: orm.Session, contact: int, of: tuple[int, int], at: dt.datetime, links: int
    ) -> None:
        if not kinds:
            kinds.update({one.key: one.id for one in session.scalars(sa.select(EventKind))})
        reacted = bulk.Rows(
            session,
            "reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, note)",
        )
        bought = bulk.Rows(session, "events (contact_id, at, kind_id, details)")

        def buy(who: int, since: dt.datetime, after: float, roll: Any) -> None:
            when = since + dt.timedelta(seconds=after)
            if when < made.moment:
                bought.add(who, when.isoformat(), kinds["ticket_bought"], '{"amount": 12}')

        roll = made.dice.random(6)
        past_sends.react(made, contact - 1, contact, of, at, roll, links, reacted, buy)
        reacted.send()
        bought.send()

    journeys.live(database, settings, made.moment, react)


def _sign(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    """The observatory's emails have been signed since spring."""
    since = now - dt.timedelta(days=200)
    sending.take_mail(session, IDA, since, True)
    for key in mail_keys.make(session, IDA, since, settings, accounts.DEMO_DOMAIN):
        mail_keys.use(session, IDA, since, key.id)


def _scores(database: Database, now: dt.datetime, settings: Settings) -> None:
    for name, (meaning, half_life, rules) in stories.SCORES.items():
        with database.session() as session:
            words = dictionary(session)
            score = scores.save(
                session,
                IDA,
                now - dt.timedelta(days=90),
                words,
                {"name": name, "meaning": meaning, "half_life": half_life, "rules": rules},
            )
            work_out(Moment(session, words, now, zoneinfo.ZoneInfo(settings.timezone)), score)


def _dictionary(session: orm.Session, now: dt.datetime) -> None:
    for label, kind, options, meaning in (
        (
            "region",
            "choice",
            ["Farrow Vale", *names.TOWNS[1:3], names.TOWNS[4]],
            "part of the county, from the town",
        ),
        ("membership", "choice", list(world.TIERS), "tier of a running membership"),
        ("renewal date", "date", [], "when the membership runs out"),
        ("member since", "date", [], "first day as a member"),
        ("birthday", "date", [], "asked at the till, often blank"),
        ("interests", "choices", list(world.INTERESTS), "ticked on the sign-up card"),
        ("lends telescope", "yes_no", [], "has a telescope of ours at home"),
        ("involvement", "number", [], "how involved, from 0 up"),
    ):
        people.add_field(session, IDA, now, "contact", label, kind, options, meaning)
    for label, kind, options in (
        ("kind", "choice", list(names.COMPANY_KINDS)),
        ("agreement ends", "date", []),
        ("pupils", "number", []),
    ):
        people.add_field(session, IDA, now, "company", label, kind, options)
    for key, (did, do, details, _) in world.KINDS.items():
        session.add(
            EventKind(
                key=key,
                did=did,
                do=do,
                details={k: {"label": k, "type": t} for k, t in details.items()},
            )
        )
    session.flush()


def _organisation(session: orm.Session, now: dt.datetime, settings: Settings, site: str) -> None:
    for email, name, role in (
        ("ida@farrowhill.example", "Ida Vance", "admin"),
        ("noor@farrowhill.example", "Noor Adair", "author"),
        ("will@farrowhill.example", "Will Tamm", "viewer"),
        ("hetty@farrowhill.example", "Hetty Brook", "approver"),
    ):
        accounts.add_user(session, now, email, name, role, accounts.DEMO_PASSWORD)
    session.add_all(
        [
            Sender(
                name="Farrow Hill, members’ desk",
                address="members@farrowhill.example",
                reply_to="desk@farrowhill.example",
            ),
            Sender(name="Farrow Hill Observatory", address="hello@farrowhill.example", reply_to=""),
        ]
    )
    session.add_all(topics())
    session.add(
        ApiKey(
            name="Observatory’s website",
            kind="site",
            key_hash=stories.SITE_KEY,
            origins=[site],
            created_at=now,
        )
    )
    session.flush()


def _people(session: orm.Session, made: world.World) -> None:
    now = made.moment.isoformat()
    out = bulk.Rows(session, "companies (id, name, name_key, attributes, created_at)")
    for n, (name, _, own) in enumerate(made.companies, 1):
        out.add(n, name, fold(name), json.dumps(own), now)
    out.send()
    out = bulk.Rows(
        session,
        "contacts (id, email, email_key, email_usable, phone, first_name, last_name, company_id, "
        "language, timezone, town, attributes, search_key, name_key, source, created_at, "
        "updated_at)",
    )
    day = made.moment.date()
    zones = ("Europe/London",) * 14 + (
        None,
        None,
        "Europe/Berlin",
        "America/New_York",
        "Asia/Kolkata",
        "Europe/London",
    )
    languages = ("en",) * 17 + ("de", "fr", None)
    for i in range(made.scale):
        first, last, address = made.first[i], made.last[i], made.email[i]
        name_key, search_key = people.search_keys(first, last, address)
        created = made.moment - dt.timedelta(days=int(made.created_days[i]), seconds=i % 80_000)
        usable = bool(address and "@" in address)
        phone = world.phone(i)
        out.add(
            i + 1,
            address,
            address.lower() if usable and address else None,
            usable,
            phone,
            first,
            last,
            int(made.company[i]) + 1 if made.company[i] >= 0 else None,
            languages[i % 20],
            zones[i * 7 % 20],
            names.TOWNS[made.town[i]] if i % 11 else None,
            json.dumps(world.attributes(made, i, day), ensure_ascii=False),
            search_key,
            name_key,
            ("website", "till", "open night", "school visit")[i % 4],
            created.isoformat(),
            now,
        )
    out.send()
    for table in ("contacts", "companies"):
        session.execute(
            sa.text(
                f"SELECT setval(pg_get_serial_sequence('{table}', 'id'), (SELECT max(id) FROM "
                f"{table}))"
            )
        )


def _consent(session: orm.Session, made: world.World) -> None:
    """Most said yes at some time, some took it back, some were never asked; each with its
    evidence."""
    columns = "(contact_id, channel, topic_id, agreed, at, how)"
    out, history = (
        bulk.Rows(session, f"consents {columns}"),
        bulk.Rows(session, f"consent_changes {columns}"),
    )
    said = made.dice.random(made.scale)
    hows = ("ticked the box at booking", "signed the card at an open night", "asked on the website")
    for i in range(made.scale):
        given = made.moment - dt.timedelta(days=int(made.created_days[i]), seconds=i % 70_000)
        how = hows[i % 3]
        if said[i] < 0.91:
            topics = (
                [0]
                + [t for t in (1, 3) if (i * 31 + t) % 3]
                + ([2] if made.tier[i] >= 0 else [])
                + ([4] if made.company[i] >= 0 else [])
            )
            for topic in topics:
                agreed = not (topic == 0 and said[i] > 0.875)
                at = given if agreed else given + (made.moment - given) * 0.6
                row = (
                    i + 1,
                    "email",
                    topic,
                    agreed,
                    at.isoformat(),
                    how if agreed else "unsubscribed on the page",
                )
                out.add(*row)
                if not agreed:
                    history.add(i + 1, "email", topic, True, given.isoformat(), how)
                history.add(*row)
        if i % 24 == 5 and said[i] < 0.8:
            row = (
                i + 1,
                "sms",
                0,
                said[i] < 0.74,
                given.isoformat(),
                "gave the number at the till for texts",
            )
            out.add(*row)
            history.add(*row)
    out.send()
    history.send()
    suppressed = [
        i
        for i in range(made.scale)
        if i % 797 == 11 and made.email[i] and "@" in (made.email[i] or "")
    ]
    for i in suppressed:
        keeping.suppress(
            session,
            made.moment - dt.timedelta(days=i % 300),
            made.email[i] or "",
            "complained about an email" if i % 2 else "asked by letter",
            "desk",
        )


def _events(database: Database, made: world.World) -> None:
    """Stored kind by kind, in blocks that fit into memory at any scale."""
    with database.session() as session:
        ids = {k.key: k.id for k in session.scalars(sa.select(EventKind))}
    for key, (_, _, _, rate) in world.KINDS.items():
        blocks = max(1, int(made.scale * rate) // 1_500_000)
        for _ in range(blocks):
            who, at, details = world.events(made, key, rate / blocks)
            stamps = np.char.add(np.datetime_as_string(at.astype("datetime64[s]")), "+00")
            text = "\n".join(
                "\t".join((str(w), t, str(ids[key]), "\\N" if x is None else x))
                for w, t, x in zip(who.tolist(), stamps.tolist(), details, strict=True)
            )
            with database.session() as session:
                bulk.copy(session, "events (contact_id, at, kind_id, details)", text + "\n")
