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

#: What a send is made of, by the names: campaign, message, its edition, segment.
_NAMED = """
SELECT c.id, m.id, e.id, g.id
FROM campaigns c, messages m JOIN editions e ON e.message_id = m.id, segments g
WHERE c.name = :campaign AND m.name = :message AND g.name = :segment
"""


def make(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    """Writes all of it down, each as of some days ago."""
    _segments(session, now, settings)
    regions = _regions(session, now)
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
        rows = writing.house(session, IDA, now - dt.timedelta(days=60), settings, regions)
        writing.welcome(session, IDA, now - dt.timedelta(days=3), settings, rows)
        writing.short_ones(session, IDA, now - dt.timedelta(days=2), settings)
    _messages(session, now - dt.timedelta(days=430), settings)
    _campaigns(session, now)
    _draft(session, now, settings)
    _planned(session, now, settings)


def _segments(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    words = dictionary(session)
    moment = Moment(session, words, now, zoneinfo.ZoneInfo(settings.timezone))
    for name, conditions in stories.SEGMENTS.items():
        size = count(moment, d.parse({"lines": conditions}, words))
        written = now - dt.timedelta(days=len(name))
        data = {"format": 1, "lines": conditions}
        segments.save(session, IDA, written, words, name, data, size=size)


def _regions(session: orm.Session, now: dt.datetime) -> int:
    """A grouping by regions; gives its number."""
    words, then = dictionary(session), now - dt.timedelta(days=200)
    regions = groupings.create(session, IDA, then, "Regions")
    for region in ("Farrow Vale", *names.TOWNS[1:3]):
        line = {"id": "a", "kind": "field", "field": "region", "op": "is", "value": [region]}
        change = {"do": "set", "name": region, "lines": [line]}
        groupings.change(session, IDA, then, words, regions, change)
    return regions.id


def _messages(session: orm.Session, then: dt.datetime, settings: Settings) -> None:
    place = f"{settings.organisation}, {settings.postal_address}"
    for name, (subject, preheader, lines) in stories.MESSAGES.items():
        document = stories.document(subject, preheader, lines, place, settings.village_url)
        made = messages.create(session, IDA, then, name, doc.take(document))
        messages.make_edition(session, IDA, then, made, settings.public_url)


def _campaigns(session: orm.Session, now: dt.datetime) -> None:
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


def _draft(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    """A send that waits to be finished."""
    campaign, message, _, segment = _named(
        session,
        stories.CAMPAIGNS[-1][0],
        "Another year of stars",
        "Loyal members near renewal",
    )
    session.add(
        Send(
            campaign_id=campaign,
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


def _planned(session: orm.Session, now: dt.datetime, settings: Settings) -> None:
    """A send that goes out in two days."""
    campaign, message, edition, segment = _named(session, "Sky diary", "Sky diary", "Dome regulars")
    leaves = (now + dt.timedelta(days=2)).replace(hour=17, minute=30, second=0)
    session.add(
        Send(
            campaign_id=campaign,
            name=f"Sky diary, {leaves:%B %Y}",
            state="planned",
            message_id=message,
            edition_id=edition,
            sender_id=2,
            audience={"in": [{"segment": segment}], "out": []},
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


def _named(
    session: orm.Session, campaign: str, message: str, segment: str
) -> tuple[int, int, int, int]:
    """The numbers of a campaign, a message, its edition and a segment, by their names."""
    found = session.execute(
        sa.text(_NAMED), {"campaign": campaign, "message": message, "segment": segment}
    ).one()
    return found[0], found[1], found[2], found[3]


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
