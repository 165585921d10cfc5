"""What stands in the calendar: sends that left and are planned, how many they reach, and whom they
reach twice."""

import dataclasses
import datetime as dt
import itertools
from collections.abc import Iterator, Mapping, Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.base.kept import Kept
from meadowrun.base.manifest import numbers_of
from meadowrun.campaigns.models import Campaign
from meadowrun.people.moment import Moment
from meadowrun.sends import estimates, overlap, repeats
from meadowrun.sends import queries as sends
from meadowrun.sends.models import Send

#: Two sends to the same people within less than this clash.
CLASH = dt.timedelta(hours=24)
#: Of so many pairs at the most it is worked out how many people they share.
MOST_PAIRS = 40


@dataclasses.dataclass(frozen=True, slots=True)
class Entry:
    """One send, or one date of a send that repeats, in a day."""

    send: Send
    campaign: Campaign
    at: dt.datetime
    channel: str
    #: how many got it, or would get it; None: not known
    people: int | None
    #: whether it can be moved to another day here
    movable: bool


@dataclasses.dataclass(frozen=True, slots=True)
class Clash:
    """Two sends that reach the same people within a day, each with its moment."""

    one: Send
    at: dt.datetime
    other: Send
    other_at: dt.datetime
    people: int


@dataclasses.dataclass(frozen=True, slots=True)
class Shown:
    """What the calendar is narrowed to: a campaign, a channel, a tag (each empty: all)."""

    campaign: int = 0
    channel: str = ""
    tags: frozenset[int] = frozenset()

    def takes(self, session: orm.Session, send: Send, campaign: Campaign, channel: str) -> bool:
        """Whether a send belongs to it."""
        if self.campaign and campaign.id != self.campaign:
            return False
        if self.channel and channel != self.channel:
            return False
        return not self.tags or bool(self.tags & set(sends.tags_of(session, send)))


def entries(moment: Moment, first: dt.datetime, until: dt.datetime, shown: Shown) -> list[Entry]:
    """Everything within a span, in order."""
    session = moment.session
    rows = [
        *sends.between(session, first, until),
        *repeats.between(session, first, until),
    ]
    channels = sends.channels_of(session, [send for send, _, _ in rows])
    found = []
    for send, campaign, at in rows:
        channel = channels[send.id]
        if not shown.takes(session, send, campaign, channel):
            continue
        movable = send.state in sends.EDITABLE and not send.rhythm and send.leaves_at is not None
        found.append(Entry(send, campaign, at, channel, _people(moment, send), movable))
    return sorted(found, key=lambda one: (one.at, one.send.id))


def _people(moment: Moment, send: Send) -> int | None:
    """How many got a send; of a planned one, how many would get it now."""
    if send.taken_at is not None:
        return numbers_of(moment.session, send.id).get("delivered", 0)
    if send.state != "planned":
        return None
    try:
        return estimates.kept_estimate(moment, send, fresh=False)[0].going
    except Invalid:
        return None


def by_day(found: Sequence[Entry], zone: dt.tzinfo) -> dict[dt.date, list[Entry]]:
    """Entries by the day on the organisation's clock."""
    days: dict[dt.date, list[Entry]] = {}
    for entry in found:
        days.setdefault(entry.at.astimezone(zone).date(), []).append(entry)
    return days


def messages(found: Sequence[Entry]) -> dict[str, int]:
    """How many messages of each channel some entries are, the most first."""
    counted: dict[str, int] = {}
    for entry in found:
        if entry.people:
            counted[entry.channel] = counted.get(entry.channel, 0) + entry.people
    return dict(sorted(counted.items(), key=lambda item: -item[1]))


#: How many messages of journeys left on each day of the organisation's clock, by channel; those of
#: testers, and what interrupts nobody, do not count.
_OF_JOURNEYS = """
SELECT CAST(d.at AT TIME ZONE :zone AS date) AS day, s.channel, count(*) AS people
FROM dispatches s JOIN deliveries d ON d.dispatch_id = s.id AND d.taken_at = s.taken_at
WHERE s.owner_kind = 'journey' AND s.counts AND s.taken_at < :until
AND d.outcome IN ('delivered', 'bounced', 'in_doubt') AND d.at >= :first AND d.at < :until
AND (:campaign = 0 OR s.campaign_id = :campaign) AND (:channel = '' OR s.channel = :channel)
AND (CAST(:tags AS bigint[]) IS NULL OR s.tags && CAST(:tags AS bigint[]))
GROUP BY 1, 2 ORDER BY 1, 3 DESC
"""
_of_journeys: Kept[dict[dt.date, dict[str, int]]] = Kept(60.0)


def of_journeys(
    moment: Moment, first: dt.datetime, until: dt.datetime, shown: Shown
) -> dict[dt.date, dict[str, int]]:
    """How many messages of journeys left on each day, by channel."""
    values = {
        "zone": str(moment.zone),
        "first": first,
        "until": until,
        "campaign": shown.campaign,
        "channel": shown.channel,
        "tags": sorted(shown.tags) or None,
    }

    def count() -> dict[dt.date, dict[str, int]]:
        found: dict[dt.date, dict[str, int]] = {}
        for row in moment.session.execute(sa.text(_OF_JOURNEYS), values):
            found.setdefault(row.day, {})[row.channel] = row.people
        return found

    return _of_journeys.get(moment.session, str(values), moment.now, count)[0]


def together(one: Mapping[str, int], other: Mapping[str, int]) -> dict[str, int]:
    """How many messages of each channel two kinds of things are, the most first."""
    added = {key: one.get(key, 0) + other.get(key, 0) for key in {**one, **other}}
    return dict(sorted(added.items(), key=lambda item: -item[1]))


_clashes: Kept[list[Clash]] = Kept(60.0)


def clashes(moment: Moment, found: Sequence[Entry]) -> list[Clash]:
    """The pairs of sends, at least one of them planned, that reach the same people within less than
    a day; most people first."""
    pairs = list(itertools.islice(_pairs(found), MOST_PAIRS))
    key = tuple((entry.send.id, entry.send.version, entry.at) for pair in pairs for entry in pair)
    return _clashes.get(moment.session, key, moment.now, lambda: _counted(moment, pairs))[0]


def _counted(moment: Moment, pairs: Sequence[tuple[Entry, Entry]]) -> list[Clash]:
    people = overlap.overlaps(moment, [(one.send, other.send) for one, other in pairs])
    clashing = [
        Clash(one.send, one.at, other.send, other.at, count)
        for (one, other), count in zip(pairs, people, strict=True)
        if count
    ]
    return sorted(clashing, key=lambda one: -one.people)


def _pairs(found: Sequence[Entry]) -> Iterator[tuple[Entry, Entry]]:
    """Entries less than a day apart, each pair once; dates of the same send are none."""
    for place, one in enumerate(found):
        for other in found[place + 1 :]:
            if other.at - one.at >= CLASH:
                break
            if one.send.id != other.send.id and "planned" in (one.send.state, other.send.state):
                yield one, other


def near(moment: Moment, send: Send, at: dt.datetime) -> list[Clash]:
    """What a send would clash with if it left at a moment; most people first."""
    around = entries(moment, at - CLASH, at + CLASH, Shown())
    others = [
        entry
        for entry in around
        if entry.send.id != send.id and abs(entry.at - at) < CLASH and _counts(entry.send)
    ]
    people = overlap.overlaps(moment, [(send, other.send) for other in others])
    found = [
        Clash(send, at, other.send, other.at, count)
        for other, count in zip(others, people, strict=True)
        if count
    ]
    return sorted(found, key=lambda one: -one.people)


def _counts(send: Send) -> bool:
    """Whether a send reaches somebody: drafts may never leave."""
    return send.state == "planned" or send.taken_at is not None


def of_each(
    found: Sequence[Clash],
) -> Mapping[tuple[int, dt.datetime], list[tuple[Send, int]]]:
    """(send, its moment) → the sends it clashes with then, and how many people they share."""
    by_each: dict[tuple[int, dt.datetime], list[tuple[Send, int]]] = {}
    for clash in found:
        by_each.setdefault((clash.one.id, clash.at), []).append((clash.other, clash.people))
        by_each.setdefault((clash.other.id, clash.other_at), []).append((clash.one, clash.people))
    return by_each
