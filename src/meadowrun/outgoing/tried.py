"""What message limits would have done on the last 90 days that really happened, before they are
set."""

import dataclasses
import datetime as dt
import zoneinfo
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.replay import Sent, replay
from meadowrun.core.timing.zones import zone_of

DAYS = 90
#: Of so many people at the most what they were sent is replayed; of more, as many by a fixed
#: shuffle.
PEOPLE = 2000

#: How many people were sent something that a limit can be about.
_HOW_MANY = """
SELECT count(DISTINCT d.contact_id) FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE d.taken_at >= :taken AND d.at >= :since AND d.at < :now
AND d.outcome IN ('delivered', 'in_doubt') AND s.channel = ANY(:channels)
"""
#: What some people were sent: contact, zone, moment, channel, tags, obeys, counts, priority, last
#: moment, send, and what they did with it. A send without a last moment is taken to have had a
#: week.
_SENT = """
WITH sent AS (
    SELECT d.contact_id, d.at, d.taken_at, d.number, s.id AS dispatch, s.name, s.owner_id,
        s.channel, s.tags, s.obeys_caps, s.counts, s.priority,
        coalesce(s.last_moment, s.taken_at + interval '7 days') AS last_moment
    FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
    WHERE d.taken_at >= :taken AND d.at >= :since AND d.at < :now
    AND d.outcome IN ('delivered', 'in_doubt') AND s.channel = ANY(:channels)),
few AS (
    SELECT contact_id FROM sent GROUP BY 1 ORDER BY hashint8(contact_id), contact_id LIMIT :people)
SELECT x.*, c.timezone, r.opened, r.clicked, r.left_it FROM sent x
JOIN few USING (contact_id) JOIN contacts c ON c.id = x.contact_id
LEFT JOIN LATERAL (
    SELECT bool_or(kind = 'opened') AS opened, bool_or(kind = 'clicked') AS clicked,
        bool_or(kind IN ('unsubscribed', 'complained')) AS left_it
    FROM reactions r WHERE r.contact_id = x.contact_id AND r.delivery = x.number
    AND r.at >= x.taken_at AND NOT r.machine) r ON TRUE
ORDER BY x.contact_id, x.at, x.number
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Past:
    """What one person was sent, and what they did with each of it."""

    zone: zoneinfo.ZoneInfo
    sent: Sequence[Sent]
    #: the name of each send, and whether it was opened, clicked, or made them unsubscribe
    names: Sequence[str]
    opened: Sequence[bool]
    clicked: Sequence[bool]
    left: Sequence[bool]


@dataclasses.dataclass(frozen=True, slots=True)
class Week:
    """The messages of one week: sent as they were, later, or not at all."""

    monday: dt.date
    as_it_was: int
    later: int
    not_sent: int


@dataclasses.dataclass(frozen=True, slots=True)
class Tried:
    """What limits would have done. All numbers are of everyone: from a part they are scaled."""

    messages: int
    people: int
    waited: int
    not_sent: int
    #: people of whom at least one message would have waited or not been sent
    touched: int
    #: how long those waited, on average
    wait: dt.timedelta
    weeks: Sequence[Week]
    #: channel → messages that would have waited or not been sent
    channels: Mapping[str, int]
    #: name of a send → the same; most first
    sends: Sequence[tuple[str, int]]
    #: what those that would not have been sent brought: opened, clicked, unsubscribed
    lost: tuple[int, int, int]
    #: of how many people it was worked out; fewer than `people`: numbers are estimates
    asked: int


def past(
    session: orm.Session,
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
    channels: Sequence[str],
    most: int = PEOPLE,
) -> tuple[int, list[Past]]:
    """(how many people were sent something in the last 90 days, what some of them were)."""
    since = now - dt.timedelta(days=DAYS)
    asked = {
        "since": since,
        "taken": since - dt.timedelta(days=32),
        "now": now,
        "channels": list(channels),
        "people": most,
    }
    people = session.execute(sa.text(_HOW_MANY), asked).scalar_one()
    found: dict[int, list[sa.Row[tuple[object, ...]]]] = {}
    for row in session.execute(sa.text(_SENT), asked):
        found.setdefault(row.contact_id, []).append(row)
    return people, [
        Past(
            zone_of(rows[0].timezone) or zone,
            [
                Sent(
                    row.at,
                    row.channel,
                    frozenset(row.tags),
                    row.obeys_caps,
                    row.counts,
                    row.priority,
                    row.last_moment,
                )
                for row in rows
            ],
            [row.name for row in rows],
            [bool(row.opened) for row in rows],
            [bool(row.clicked) for row in rows],
            [bool(row.left_it) for row in rows],
        )
        for rows in found.values()
    ]


def _each_week(weeks: Mapping[dt.date, list[int]]) -> Iterator[tuple[dt.date, list[int]]]:
    """The weeks from the first to the last, also those in which nothing was sent."""
    monday = min(weeks, default=None)
    while monday is not None and monday <= max(weeks):
        yield monday, weeks.get(monday, [0, 0, 0])
        monday += dt.timedelta(days=7)


def tried(people: int, found: Sequence[Past], caps: Sequence[Cap]) -> Tried:
    """What limits would have done to some people's past, scaled to all `people`."""
    scale = people / len(found) if found else 1.0
    weeks: dict[dt.date, list[int]] = {}
    channels: Counter[str] = Counter()
    sends: Counter[str] = Counter()
    messages = waited = not_sent = touched = opened = clicked = left = 0
    wait = dt.timedelta(0)
    for one in found:
        held_any = False
        for number, fate in enumerate(replay(one.sent, caps, one.zone)):
            sent = one.sent[number]
            day = sent.at.astimezone(one.zone).date()
            week = weeks.setdefault(day - dt.timedelta(days=day.weekday()), [0, 0, 0])
            messages += 1
            week[2 if fate.at is None else 1 if fate.waited else 0] += 1
            if fate.at is not None and not fate.waited:
                continue
            held_any = True
            channels[sent.channel] += 1
            sends[one.names[number]] += 1
            if fate.at is None:
                not_sent += 1
                opened += one.opened[number]
                clicked += one.clicked[number]
                left += one.left[number]
            else:
                waited += 1
                wait += fate.at - sent.at
        touched += held_any

    def scaled(count: int) -> int:
        return round(count * scale)

    return Tried(
        scaled(messages),
        people,
        scaled(waited),
        scaled(not_sent),
        scaled(touched),
        wait / waited if waited else dt.timedelta(0),
        [Week(monday, *map(scaled, counts)) for monday, counts in _each_week(weeks)],
        {name: scaled(count) for name, count in channels.most_common()},
        [(name, scaled(count)) for name, count in sends.most_common(5)],
        (scaled(opened), scaled(clicked), scaled(left)),
        len(found),
    )
