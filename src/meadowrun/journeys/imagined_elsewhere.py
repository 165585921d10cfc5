"""What people get from elsewhere while a journey is rehearsed, as far as it counts for limits: what
they had lately, planned sends, and what other journeys send them."""

import dataclasses
import datetime as dt
import math
from collections.abc import Callable, Iterator, Mapping, Sequence

import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.journeys.clocks import Clocks, Floats
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys.imagined_pasts import padded
from meadowrun.journeys.models import Journey
from meadowrun.messages.models import Message
from meadowrun.people.moment import Moment
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience, tags_of

#: A message may go so many days after its audience was settled.
_LATEST = dt.timedelta(days=32)
#: So many planned sends are looked at.
MOST_PLANNED = 30
WEEK = dt.timedelta(days=7)

#: What some contacts had lately that counts for limits: contact, channel, tags, moment.
_HAD = """
SELECT d.contact_id, s.channel, s.tags, d.at FROM deliveries d
JOIN dispatches s ON s.id = d.dispatch_id
WHERE d.contact_id = ANY(:ids) AND s.counts AND d.taken_at >= :taken AND d.at >= :since
AND d.outcome IN ('delivered', 'in_doubt', 'in_hand')
"""
#: What other journeys that go on sent some contacts: contact, channel, tags, moment, and since when
#: the journey runs.
_FROM_JOURNEYS = """
SELECT d.contact_id, s.channel, s.tags, d.at, j.started_at FROM deliveries d
JOIN dispatches s ON s.id = d.dispatch_id
JOIN journeys j ON s.owner_kind = 'journey' AND j.id = s.owner_id
WHERE d.contact_id = ANY(:ids) AND s.counts AND d.taken_at >= :taken AND d.at >= :since
AND d.outcome IN ('delivered', 'in_doubt') AND j.state = 'running' AND j.id <> :journey
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Got:
    """A message that somebody had, or will get: on which channel, under which tags, and when, in
    minutes of the clocks."""

    contact: int
    channel: str
    tags: frozenset[int]
    at: float


@dataclasses.dataclass(frozen=True)
class Elsewhere:
    """Place of a limit → when each of some contacts had, or will get, what counts for it; when they
    had or will get anything; and how many messages other journeys send them."""

    had: Mapping[int, Floats]
    anything: Floats
    of_journeys: int


def from_elsewhere(
    moment: Moment,
    journey: Journey,
    contacts: Sequence[int],
    caps: Sequence[Cap],
    clocks: Clocks,
    days: int,
) -> Elsewhere:
    """What some contacts had lately and will get in so many days, but for what a journey sends
    them."""
    journeys = list(_of_journeys(moment, journey, contacts, clocks, days))
    rows = [
        *_lately(moment, contacts, caps, clocks),
        *_planned(moment, contacts, clocks, days),
        *journeys,
    ]

    def by_contact(counts: Callable[[str, frozenset[int]], bool]) -> Floats:
        of: dict[int, list[float]] = {}
        for one in rows:
            if counts(one.channel, one.tags):
                of.setdefault(one.contact, []).append(one.at)
        return padded([of.get(one, []) for one in contacts])

    return Elsewhere(
        {place: by_contact(cap.is_about) for place, cap in enumerate(caps)},
        by_contact(lambda channel, tags: not CHANNELS[channel].waits_there),
        len(journeys),
    )


def _lately(
    moment: Moment, contacts: Sequence[int], caps: Sequence[Cap], clocks: Clocks
) -> Iterator[Got]:
    """What some contacts had as long ago as any limit looks back, and a week ago at least."""
    since = moment.now - max([WEEK, *(cap.reaches_back() for cap in caps)])
    values = {"ids": list(contacts), "since": since, "taken": since - _LATEST}
    for contact, channel, tags, at in moment.session.execute(sa.text(_HAD), values):
        yield Got(contact, channel, frozenset(tags), clocks.minutes(at))


def _of_journeys(
    moment: Moment, journey: Journey, contacts: Sequence[int], clocks: Clocks, days: int
) -> Iterator[Got]:
    """What other journeys will send: as they did in the weeks before, week by week, as far as they
    run that long."""
    now, until = moment.now, moment.now + dt.timedelta(days=days)
    weeks = math.ceil(days / 7)
    since = now - weeks * WEEK
    values = {
        "ids": list(contacts),
        "since": since,
        "taken": since - _LATEST,
        "journey": journey.id,
    }
    for row in moment.session.execute(sa.text(_FROM_JOURNEYS), values):
        # Of a journey that runs for two weeks the next two are as these, and the two after them.
        whole = min(weeks, max(1, (now - row.started_at) // WEEK))
        if row.at < now - whole * WEEK:
            continue
        again = row.at + whole * WEEK
        while again < until:
            yield Got(row.contact_id, row.channel, frozenset(row.tags), clocks.minutes(again))
            again += whole * WEEK


def _planned(moment: Moment, contacts: Sequence[int], clocks: Clocks, days: int) -> Iterator[Got]:
    """What some contacts will get by planned sends."""
    until = moment.now + dt.timedelta(days=days)
    asked = (
        sa.select(Send, Message, Campaign)
        .join(Message, Message.id == Send.message_id)
        .join(Campaign, Campaign.id == Send.campaign_id)
        .where(Send.state == "planned", Send.counts, Send.begins_at < until)
        .order_by(Send.begins_at)
        .limit(MOST_PLANNED)
    )
    for send, message, campaign in moment.session.execute(asked):
        try:
            who = audience(moment, send.audience)
        except Invalid:
            continue
        asked_of = f"SELECT c.id FROM contacts c WHERE c.id = ANY(:some) AND ({who.predicate})"
        values = {**who.values, "some": list(contacts)}
        at = clocks.minutes(max(send.begins_at or moment.now, moment.now))
        tags = frozenset({*campaign.tags, *tags_of(moment.session, send)})
        for contact in moment.session.scalars(sa.text(asked_of), values):
            yield Got(contact, message.channel, tags, at)
