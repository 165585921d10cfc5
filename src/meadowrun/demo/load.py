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
from meadowrun.base.audit import Actor
from meadowrun.base.db import Database, ensure_months
from meadowrun.base.settings import Settings
from meadowrun.campaigns import actions as campaigns
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.persons import share_number
from meadowrun.core.content import document as doc
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.verdict import Facts, verdict
from meadowrun.core.wording import fold
from meadowrun.demo import bulk, journeys, names, stories, world, writing
from meadowrun.features import load_tasks
from meadowrun.messages import actions as messages
from meadowrun.messages import mail_keys
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import best_hours, caps
from meadowrun.outgoing import rules as sending
from meadowrun.outgoing.models import Dispatch
from meadowrun.people import actions as people
from meadowrun.people import keeping
from meadowrun.people.models import EventKind, Topic
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.results.queries import refresh_numbers
from meadowrun.scores import actions as scores
from meadowrun.scores.working import work_out
from meadowrun.segments import actions as segments
from meadowrun.segments import groupings
from meadowrun.segments.queries import count
from meadowrun.sends.models import Send
from meadowrun.sends.queries import tags_of
from meadowrun.shell import accounts
from meadowrun.shell.models import ApiKey
from meadowrun.tags import actions as tagging
from meadowrun.tags.models import Tag
from meadowrun.village.store import pull

IDA = Actor(None, "Ida Vance", "admin")
#: A world with so many past sends is whole: journeys have run in it, too.
WHOLE = 20
Say = Callable[[str], None]
#: Draws so many numbers of deliveries: the first of them.
_DRAWN = "SELECT setval('delivery_numbers', nextval('delivery_numbers') + :n) - :n"
#: the topic of the members' letter, of whose readers so many in 100 are in the control group
MEMBERS, CONTROL = 2, 15.0


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
        _writing(session, moment, settings)
    say(f"{sends} past sends and what came of them")
    with bulk.indexes_later(database, "deliveries", "reactions"):
        for number in range(sends):
            with database.session() as session:
                _past_send(session, made, number, sends)
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
        _react(made, contact - 1, contact, of, at, roll, links, reacted, buy)
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
    session.add_all(
        [
            Topic(
                key="sky_diary",
                name="Sky diary",
                about="what to see this month",
                often="once a month",
            ),
            Topic(
                key="members_news",
                name="Members’ news",
                about="for members only",
                often="every second month",
            ),
            Topic(
                key="events",
                name="Nights and lectures",
                about="what is on at the dome",
                often="up to twice a month",
            ),
            Topic(
                key="schools", name="Schools", about="visits for classes", often="before each term"
            ),
        ]
    )
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


def _writing(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    words = dictionary(session)
    for name, conditions in stories.SEGMENTS.items():
        size = count(
            Moment(session, words, now, zoneinfo.ZoneInfo(settings.timezone)),
            d.parse({"lines": conditions}, words),
        )
        segments.save(
            session,
            IDA,
            now - dt.timedelta(days=len(name)),
            words,
            name,
            {"format": 1, "lines": conditions},
            size=size,
        )
    regions = groupings.create(session, IDA, now - dt.timedelta(days=200), "Regions")
    for region in ("Farrow Vale", *names.TOWNS[1:3]):
        groupings.change(
            session,
            IDA,
            now - dt.timedelta(days=200),
            words,
            regions,
            {
                "do": "set",
                "name": region,
                "lines": [
                    {"id": "a", "kind": "field", "field": "region", "op": "is", "value": [region]}
                ],
            },
        )
    keeping.make_list(
        session,
        IDA,
        now - dt.timedelta(days=30),
        "Open night guests",
        "by hand, Ida Vance",
        list(range(3, 240, 7)),
    )
    _tags(session, now)
    _limits(session, now)
    if settings.village_url and settings.feed_hosts:
        rows = writing.house(session, IDA, now - dt.timedelta(days=60), settings, regions.id)
        writing.welcome(session, IDA, now - dt.timedelta(days=3), settings, rows)
        writing.short_ones(session, IDA, now - dt.timedelta(days=2), settings)
    place = f"{settings.organisation}, {settings.postal_address}"
    for name, (subject, preheader, lines) in stories.MESSAGES.items():
        made = messages.create(
            session,
            IDA,
            now - dt.timedelta(days=430),
            name,
            doc.take(stories.document(subject, preheader, lines, place, settings.village_url)),
        )
        messages.make_edition(session, IDA, now - dt.timedelta(days=430), made, settings.public_url)
    for name, kind, offset, tags, facts in stories.CAMPAIGNS:
        starts = now.date() + dt.timedelta(days=offset)
        campaigns.save(
            session,
            IDA,
            now - dt.timedelta(days=-offset + 20 if offset < 0 else 6),
            {
                "name": name,
                "kind": kind,
                "starts": starts,
                "ends": starts + dt.timedelta(days=21),
                "tags": tags,
                "facts": facts,
            },
        )
    first = session.execute(
        sa.text("SELECT id FROM campaigns WHERE name = :n"), {"n": stories.CAMPAIGNS[-1][0]}
    ).scalar_one()
    segment = session.execute(
        sa.text("SELECT id FROM segments WHERE name = 'Loyal members near renewal'")
    ).scalar_one()
    message = session.execute(
        sa.text("SELECT id FROM messages WHERE name = 'Another year of stars'")
    ).scalar_one()
    session.add(
        Send(
            campaign_id=first,
            name="Another year of stars",
            state="draft",
            message_id=message,
            sender_id=1,
            audience={"in": [{"segment": segment}], "out": []},
            zone=settings.timezone,
            topic_id=2,
            success_event="membership_renewed",
            success_days=14,
            control={"percent": CONTROL},
            created_at=now,
            changed_at=now,
        )
    )
    diary = session.execute(
        sa.text(
            "SELECT c.id, m.id, e.id, g.id FROM campaigns c, messages m JOIN editions e ON "
            "e.message_id = m.id, segments g WHERE c.name = 'Sky diary' AND m.name = 'Sky diary' "
            "AND g.name = 'Dome regulars'"
        )
    ).one()
    leaves = (now + dt.timedelta(days=2)).replace(hour=17, minute=30, second=0)
    session.add(
        Send(
            campaign_id=diary[0],
            name=f"Sky diary, {leaves:%B %Y}",
            state="planned",
            message_id=diary[1],
            edition_id=diary[2],
            sender_id=2,
            audience={"in": [{"segment": diary[3]}], "out": []},
            zone=settings.timezone,
            topic_id=1,
            success_event="ticket_bought",
            success_days=7,
            leaves_at=leaves,
            begins_at=leaves,
            created_at=now,
            changed_at=now,
            started_by=IDA.name,
        )
    )


def _tags(session: orm.Session, now: dt.datetime) -> None:
    """Tags on people by their numbers, and on what is written and said."""
    for path, (meaning, every, first) in stories.TAGS.items():
        (ident,) = tagging.numbers(session, now, [path])
        tagging.describe(session, IDA, now, session.get_one(Tag, ident), meaning)
        if every:
            session.execute(
                sa.text(
                    "INSERT INTO contact_tags (contact_id, tag_id) SELECT id, :tag FROM contacts "
                    "WHERE id % :every = :first"
                ),
                {"tag": ident, "every": every, "first": first},
            )
    for kind, name, paths in stories.TAGGED:
        table = {"segment": "segments", "list": "lists"}[kind]
        number = session.execute(
            sa.text(f"SELECT id FROM {table} WHERE name = :name"), {"name": name}
        ).scalar_one()
        tagging.put_on(session, IDA, now, kind, number, paths)


def _limits(session: orm.Session, now: dt.datetime) -> None:
    """How much of what one person may get."""
    for channel, path, most in stories.LIMITS:
        tag = tagging.numbers(session, now, [path])[0] if path else None
        for unit, number in most.items():
            caps.save(session, IDA, now, Cap(number, 1, unit, channel), tag)


def _past_send(session: orm.Session, made: world.World, number: int, total: int) -> None:
    """One send of the past, with outcomes by everyone's circumstances and reactions by the hidden
    truth."""
    dice = made.dice
    name, campaign, message, topic, share = stories.PAST[number % len(stories.PAST)]
    ago = 400 - int(number * 397 / max(1, total - 1))
    taken = (made.moment - dt.timedelta(days=ago)).replace(
        hour=(17, 9, 18)[number % 3], minute=30, second=0
    )
    ids = session.execute(
        sa.text(
            "SELECT c.id, m.id, e.id, e.compiled, c.facts, m.channel FROM campaigns c, messages "
            "m JOIN editions e ON e.message_id = m.id "
            "WHERE c.name = :c AND m.name = :m"
        ),
        {"c": campaign, "m": message},
    ).one()
    control = CONTROL if topic == MEMBERS else 0.0
    send = Send(
        campaign_id=ids[0],
        name=f"{name}, {taken:%B %Y}",
        state="done",
        message_id=ids[1],
        edition_id=ids[2],
        control={"percent": control} if control else {},
        audience={"in": [], "out": []},
        sender_id=1 + number % 2,
        zone="Europe/London",
        topic_id=topic,
        facts=ids[4],
        success_event=stories.SUCCESS[message],
        success_days=7,
        taken_at=taken,
        created_at=taken - dt.timedelta(days=3),
        changed_at=taken,
        started_by="Ida Vance",
        finished_at=taken + dt.timedelta(minutes=9),
    )
    session.add(send)
    session.flush()
    # Set running, so that it is done only when its audience is there.
    dispatch = Dispatch(
        owner_kind="send",
        owner_id=send.id,
        name=send.name,
        channel=ids[5],
        message_id=ids[1],
        edition_id=ids[2],
        sender_id=send.sender_id,
        topic_id=topic,
        campaign_id=ids[0],
        tags=tags_of(session, send),
        consent_rule="agreed",
        facts=ids[4],
        taken_at=taken,
        state="running",
        finished_at=send.finished_at,
    )
    session.add(dispatch)
    session.flush()
    known = (
        np.flatnonzero((made.created_days > ago) & (dice.random(made.scale) < share))
        if topic != MEMBERS
        else np.flatnonzero((made.created_days > ago) & (made.tier >= 0))
    )
    agreed = {
        r[0]: (r[1], r[2])
        for r in session.execute(
            sa.text(
                "SELECT c.contact_id, bool_and(c.agreed) FILTER (WHERE c.topic_id = 0), "
                "bool_or(c.agreed) FILTER (WHERE c.topic_id = :t) "
                "FROM consents c GROUP BY 1"
            ),
            {"t": topic or -1},
        )
    }
    suppressed = {
        r[0]
        for r in session.execute(
            sa.text(
                "SELECT c.id FROM contacts c JOIN suppressions s ON s.address_key = c.email_key"
            )
        )
    }
    bounced = {
        r[0]
        for r in session.execute(sa.text("SELECT id FROM contacts WHERE bounced_at IS NOT NULL"))
    }
    kind = session.execute(
        sa.text("SELECT id FROM event_kinds WHERE key = :k"), {"k": stories.SUCCESS[message]}
    ).scalar()
    rows = bulk.Rows(
        session,
        (
            "deliveries (contact_id, dispatch_id, taken_at, number, due, outcome, address, at, "
            "note, filled, control)"
        ),
    )
    reacted = bulk.Rows(
        session, "reactions (contact_id, at, dispatch_id, delivery, kind, link, machine, note)"
    )
    bought = bulk.Rows(session, "events (contact_id, at, kind_id, details)")
    hard: list[int] = []
    stamp, size = taken.isoformat(), 0
    first = session.execute(sa.text(_DRAWN), {"n": len(known)}).scalar_one()

    def buy(contact: int, at: dt.datetime, after: float, roll: Any) -> None:
        when = at + dt.timedelta(seconds=after)
        if kind and when < made.moment:
            bought.add(
                contact,
                when.isoformat(),
                kind,
                f'{{"amount": {(8, 12, 16, 24, 36, 48)[int(roll[5] * 5.99)]}}}',
            )

    links = len(ids[3]["links"])
    roll = dice.random((len(known), 6))
    for place, i in enumerate(known.tolist()):
        contact, size = i + 1, size + 1
        channel, chosen = agreed.get(contact, (None, None))
        kept = share_number(contact, f"campaign:{ids[0]}") < control * 100
        outcome = _outcome(
            made, i, contact in suppressed, contact in bounced, channel, chosen, kept
        )
        at = taken + dt.timedelta(seconds=place * 500 / max(1, len(known)))
        filled = None
        if outcome in ("delivered", "bounced"):
            filled = json.dumps(
                {
                    "contact.first_name": made.first[i],
                    "contact.town": names.TOWNS[made.town[i]],
                    "contact.membership": world.TIERS[made.tier[i]] if made.tier[i] >= 0 else None,
                    "contact.renewal_date": None,
                },
                ensure_ascii=False,
            )
        rows.add(
            contact,
            dispatch.id,
            stamp,
            first + place,
            stamp,
            outcome,
            made.email[i] if filled else None,
            at.isoformat() if filled or outcome == "control" else None,
            "550 no such mailbox" if outcome == "bounced" else None,
            filled,
            kept,
        )
        if outcome == "bounced":
            hard.append(contact)
        if outcome == "delivered":
            _react(
                made, i, contact, (dispatch.id, first + place), at, roll[place], links, reacted, buy
            )
        elif outcome == "control":
            _by_itself(at, contact, roll[place], buy)
    for done in (rows, reacted, bought):
        done.send()
    session.execute(
        sa.text("UPDATE contacts SET bounced_at = :at WHERE id = ANY(:ids)"),
        {"at": taken, "ids": hard},
    )
    dispatch.size, dispatch.sealed = size, True
    session.flush()
    dispatch.state, dispatch.unsettled = "done", False
    send.dispatch_id = dispatch.id
    session.flush()


def _outcome(
    made: world.World,
    i: int,
    suppressed: bool,
    bounced: bool,
    channel: bool | None,
    chosen: bool | None,
    kept: bool,
) -> str:
    address = made.email[i]
    said = verdict(
        Facts(
            address is not None,
            bool(address and "@" in address),
            suppressed,
            bounced,
            chosen,
            channel,
            control=kept,
        )
    )
    if not said.goes:
        return said.outcome
    return "bounced" if made.fate[i] == "gone" else "delivered"


def _by_itself(
    at: dt.datetime, contact: int, roll: Any, buy: Callable[[int, dt.datetime, float, Any], None]
) -> None:
    """A few do it anyway, without having read anything."""
    if roll[3] < 0.012:
        buy(contact, at, 90_000 + roll[4] * 300_000, roll)


def _react(
    made: world.World,
    i: int,
    contact: int,
    of: tuple[int, int],
    at: dt.datetime,
    roll: Any,
    links: int,
    reacted: bulk.Rows,
    buy: Callable[[int, dt.datetime, float, Any], None],
) -> None:
    def write(
        after: float, kind: str, link: int | None = None, machine: bool = False, note: str = ""
    ) -> None:
        when = at + dt.timedelta(seconds=after)
        if when < made.moment:
            reacted.add(contact, when.isoformat(), *of, kind, link, machine, note)

    if made.prefetches[i]:
        write(5 + roll[5] * 50, "opened", machine=True, note="the reader calls itself “proxy”")
    if roll[0] >= made.opens[i] * pull(made.hour[i] - at.hour - at.minute / 60):
        _by_itself(at, contact, roll, buy)
        return
    wait = (
        90
        + ((made.hour[i] - at.hour) % 24) * 3600 * (roll[1] < 0.6)
        + roll[4] * 20_000 * (roll[1] >= 0.6)
        + roll[5] * 1500
    )
    write(wait, "opened")
    if roll[1] > 0.99:
        write(wait + 40, "unsubscribed", note="with one click in the mail app")
    elif roll[2] < made.clicks[i] and links:
        write(wait + 60, "clicked", int(0 if roll[5] < 0.62 else roll[5] * 997 % links))
        if roll[3] < made.buys[i] * 1.6:
            buy(contact, at, wait + 900 + roll[4] * 90_000, roll)
    elif roll[3] < 0.02:
        buy(contact, at, wait + 50_000 + roll[4] * 300_000, roll)
