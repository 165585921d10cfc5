"""What people did after such a start before, and with such messages: what a rehearsal goes by."""

import dataclasses
import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import orjson
import sqlalchemy as sa

from meadowrun.core.journeys.clocks import NEVER, Floats, Ints
from meadowrun.core.journeys.imagined import Pasts, Starts
from meadowrun.core.journeys.samples import drawn_for
from meadowrun.core.journeys.steps import (
    REACTIONS,
    BranchStep,
    Itinerary,
    WaitForStep,
)
from meadowrun.core.language import Wording
from meadowrun.core.wording import count_of, number
from meadowrun.journeys.imagined_starts import Coming
from meadowrun.messages.models import Message
from meadowrun.people.moment import Moment

#: So many pasts, and so many messages of the past, are drawn from.
MOST_PASTS, MOST_MESSAGES = 2000, 5000
#: Fewer starts than these say little of what people do after one.
_ENOUGH = 30
#: Whoever does as they themselves did has done so up to so many times.
TIMES = 3
#: Since when some contacts are there.
_SINCE = "SELECT id, created_at FROM contacts WHERE id = ANY(:ids)"
#: A message is judged by what came back of it within this time.
_SETTLED = dt.timedelta(days=4)


@dataclasses.dataclass(frozen=True)
class Known:
    """Starts of the past: contact and moment."""

    starts: list[tuple[int, dt.datetime]]
    #: how many of them, one behind the other, are of each who comes in, where they do as they
    #: themselves did
    times: Ints | None = None

    def words(self, coming: Coming) -> str:
        """Of whom it is known what they did, in words."""
        if self.times is None:
            return count_of(len(self.starts), "such start")
        return Wording("what these %(n)s did before", n=number(len(coming.contacts)))

    def drawn(self, random: np.random.Generator, starts: Starts, plays: int) -> Ints:
        """The place of the past that each start goes like."""
        if self.times is None:
            return drawn_for(random, max(len(self.starts), 1), plays, starts.play)
        first = np.cumsum(self.times) - self.times
        found: Ints = first[starts.person] + random.integers(self.times[starts.person])
        return found


#: When people did something after their starts: place of the past, kind, and minutes.
_DID = """
SELECT p.place, k.event, extract(epoch FROM e.at - p.since) / 60 AS minutes
FROM jsonb_to_recordset(CAST(:pasts AS jsonb))
    AS p(place int, contact bigint, since timestamptz)
CROSS JOIN unnest(CAST(:kinds AS text[])) AS k(event)
JOIN event_kinds n ON n.key = k.event OR k.event = ANY(n.aka)
JOIN events e ON e.contact_id = p.contact AND e.kind_id = n.id
    AND e.at >= p.since AND e.at <= least(p.since + :length, :now)
ORDER BY 1, 2, 3
"""


#: What came back of messages of the past, the newest ones first: minutes until they were opened,
#: clicked and bounced.
_CAME_BACK = """
SELECT min(extract(epoch FROM r.at - d.at) / 60) FILTER (WHERE r.kind = 'opened') AS opened,
    min(extract(epoch FROM r.at - d.at) / 60) FILTER (WHERE r.kind = 'clicked') AS clicked,
    min(extract(epoch FROM r.at - d.at) / 60) FILTER (WHERE r.kind = 'replied') AS replied,
    min(extract(epoch FROM r.at - d.at) / 60) FILTER (WHERE r.kind = 'bounced') AS bounced
FROM (SELECT d.contact_id, d.number, d.at FROM deliveries d JOIN dispatches s
    ON s.id = d.dispatch_id WHERE {of} AND s.taken_at < :before AND d.taken_at = s.taken_at
    AND d.outcome IN ('delivered', 'bounced') AND d.at < :before
    ORDER BY d.number DESC LIMIT :most) d
LEFT JOIN reactions r ON r.contact_id = d.contact_id AND r.delivery = d.number AND NOT r.machine
GROUP BY d.number
"""
#: The same message, or others on its channel.
_OF_MESSAGE = "s.message_id = :message"
_OF_CHANNEL = "s.channel = :channel AND s.consent_rule <> 'service'"


def gathered_pasts(
    moment: Moment,
    itinerary: Itinerary,
    coming: Coming,
    messages: Mapping[str, Message],
    days: int,
) -> tuple[Pasts, str, Known]:
    """What people did after such a start, and with such messages; in words; and the starts of which
    it is known."""
    kinds = {rule.event for rule in itinerary.exits} | {
        path.event
        for step, _, _ in itinerary.walk()
        if isinstance(step, WaitForStep)
        for path in step.paths
    }
    if itinerary.goal:
        kinds.add(itinerary.goal.event)
    kinds.discard("")
    known = _known(moment, coming, days)
    starts = known.starts
    rows = [
        {"place": place, "contact": contact, "since": at.isoformat()}
        for place, (contact, at) in enumerate(starts)
    ]
    values = {
        "pasts": orjson.dumps(rows).decode(),
        "kinds": sorted(kinds),
        "length": dt.timedelta(days=days + 1),
        "now": moment.now,
    }
    events: dict[str, list[list[float]]] = {
        kind: [[] for _ in range(max(len(starts), 1))] for kind in kinds
    }
    if kinds and starts:
        for place, kind, minutes in moment.session.execute(sa.text(_DID), values):
            events[kind][place].append(float(minutes))
    reactions = {ident: _came_back(moment, message) for ident, message in messages.items()}
    said = Wording(
        "events as after %(starts)s, reactions as to %(messages)s",
        starts=known.words(coming),
        messages=count_of(sum(map(len, reactions.values())), "message"),
    )
    return (
        Pasts(
            {kind: padded(of) for kind, of in events.items()},
            reactions,
            _said(moment, itinerary, coming, starts),
        ),
        said,
        known,
    )


def _known(moment: Moment, coming: Coming, days: int) -> Known:
    """Starts of the past whose time after is known, a few of them, spread evenly; of people who
    come in otherwise they themselves, so many days ago, and as often before that as they were
    there."""
    length = dt.timedelta(days=days)
    if coming.event:
        known = [one for one in coming.happened if one[1] < moment.now - length]
        known = known if len(known) >= _ENOUGH else coming.happened
        every = max(1, -(-len(known) // MOST_PASTS))
        return Known(known[::every])
    rows = moment.session.execute(sa.text(_SINCE), {"ids": coming.contacts})
    since: dict[int, dt.datetime] = dict(rows.tuples().all())
    there = [(moment.now - since.get(one, moment.now)) // length for one in coming.contacts]
    times = np.clip(there, 1, TIMES)
    starts = [
        (contact, moment.now - time * length)
        for contact, often in zip(coming.contacts, times.tolist(), strict=True)
        for time in range(1, often + 1)
    ]
    return Known(starts, times)


#: What the events of some starts said, in their order.
_SAID = """
SELECT v.place, e.details
FROM jsonb_to_recordset(CAST(:pasts AS jsonb)) AS v(place int, contact bigint, since timestamptz)
JOIN event_kinds k ON k.key = :kind OR :kind = ANY(k.aka)
JOIN events e ON e.contact_id = v.contact AND e.kind_id = k.id AND e.at = v.since
"""


def _said(
    moment: Moment,
    itinerary: Itinerary,
    coming: Coming,
    starts: Sequence[tuple[int, dt.datetime]],
) -> list[dict[str, Any] | None]:
    """What the event of each start said, where a branch asks that."""
    asks = any(
        path.detail
        for step, _, _ in itinerary.walk()
        if isinstance(step, BranchStep)
        for path in step.paths
    )
    if not asks or not coming.event or not starts:
        return []
    rows = [
        {"place": place, "contact": contact, "since": at.isoformat()}
        for place, (contact, at) in enumerate(starts)
    ]
    values = {"pasts": orjson.dumps(rows).decode(), "kind": coming.event}
    found: list[dict[str, Any] | None] = [None] * len(starts)
    for place, details in moment.session.execute(sa.text(_SAID), values):
        found[place] = details
    return found


def _came_back(moment: Moment, message: Message) -> Floats:
    """What came back of the same message before, or, where it went to few, of others on its
    channel."""
    values = {
        "message": message.id,
        "channel": message.channel,
        "before": moment.now - _SETTLED,
        "most": MOST_MESSAGES,
    }
    for of in (_OF_MESSAGE, _OF_CHANNEL):
        rows = moment.session.execute(sa.text(_CAME_BACK.format(of=of)), values).all()
        if len(rows) >= _FEW:
            break
    return np.array(
        [[NEVER if one is None else max(float(one), 0.0) for one in row] for row in rows], float
    ).reshape(len(rows), len(REACTIONS))


#: Fewer messages than these say little of how people react.
_FEW = 100


def padded(timelines: Sequence[Sequence[float]]) -> Floats:
    """Timelines of minutes as one array, in order, each filled up with infinity."""
    most = max((len(one) for one in timelines), default=0)
    found = np.full((len(timelines), max(most, 1)), NEVER)
    for place, one in enumerate(timelines):
        found[place, : len(one)] = sorted(one)
    return found
