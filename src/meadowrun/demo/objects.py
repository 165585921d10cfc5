"""What was written and arranged in the demo world: segments, messages, campaigns, tags, limits."""

import datetime as dt
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.settings import Settings
from meadowrun.campaigns import actions as campaigns
from meadowrun.core.audience import definition as d
from meadowrun.core.content import document as doc
from meadowrun.core.guardrails.caps import Cap
from meadowrun.demo import names, stories, writing
from meadowrun.demo.stories import IDA
from meadowrun.messages import actions as messages
from meadowrun.outgoing import caps
from meadowrun.people import keeping
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions as segments
from meadowrun.segments import groupings
from meadowrun.segments.queries import count
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tagging
from meadowrun.tags.models import Tag


def make(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
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
            control={"percent": stories.CONTROL},
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
