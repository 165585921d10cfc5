"""Message limits: what is set, what people have had, and until when somebody waits for room.

Had is what was handed over or is in doubt, on the day it was handed over, and what a worker has in
hand at this moment: it is reserved when it is claimed. Contacts are locked from the claim until
their verdict is written, so two workers cannot both see the last room.
"""

import datetime as dt
import json
import zoneinfo
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core import wording
from meadowrun.core.channels import CHANNELS
from meadowrun.core.guardrails.caps import MOST_LENGTH, Cap, room_for
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_of
from meadowrun.outgoing.models import MessageLimit
from meadowrun.outgoing.timing import ZONES, judge_again

#: A message may go so many days after its audience was settled.
_LATEST = dt.timedelta(days=32)

#: What people had that counts: contact, zone, channel, moment. `mine` are the deliveries asked for.
HAD = """
SELECT d.contact_id, c.timezone, s.channel, CASE WHEN d.outcome IN ('waiting', 'deferred')
    THEN CAST(:now AS timestamptz) ELSE d.at END AS at
FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id JOIN contacts c ON c.id = d.contact_id
WHERE d.contact_id = ANY(:ids) AND s.counts AND d.taken_at >= :taken AND d.number <> ALL(:mine)
AND (d.outcome IN ('delivered', 'in_doubt', 'in_hand') AND d.at >= :since
    OR d.outcome IN ('waiting', 'deferred') AND d.claim IN (SELECT b.claim FROM batches b))
"""

#: Who had as many messages as one limit allows: contacts. `starts` says for each zone when its
#: period began; a contact without a zone has that of the organisation.
FULL = """
SELECT d.contact_id FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
JOIN contacts c ON c.id = d.contact_id
JOIN jsonb_to_recordset(CAST(:starts_{n} AS jsonb)) AS z(name text, since timestamptz)
    ON z.name IS NOT DISTINCT FROM c.timezone
WHERE s.counts AND {of} AND d.outcome IN ('delivered', 'in_doubt', 'in_hand')
AND d.taken_at >= :taken_{n} AND d.at {after} z.since
GROUP BY d.contact_id HAVING count(*) >= :most_{n}
"""


def full_sql(
    session: orm.Session, channel: str, now: dt.datetime, zone: zoneinfo.ZoneInfo
) -> tuple[str, dict[str, Any]]:
    """The contacts without room for a message of a channel, as SQL with its values; empty where no
    limit is about it."""
    asked = [one.cap for one in limits(session) if one.channel in ("", channel)]
    if not asked:
        return "", {}
    names = session.scalars(sa.text(ZONES)).all()
    parts, values = [], dict[str, Any]()
    for n, cap in enumerate(asked):
        starts = [
            {"name": name, "since": cap.since(now, (zone_of(name) or zone)).isoformat()}
            for name in names
        ]
        values |= {
            f"starts_{n}": json.dumps(starts),
            f"taken_{n}": now - cap.reaches_back() - _LATEST,
            f"most_{n}": cap.most,
        }
        of = "TRUE"
        if cap.channel:
            of, values[f"channel_{n}"] = f"s.channel = :channel_{n}", cap.channel
        after = ">" if cap.unit == "minute" else ">="
        parts.append(FULL.format(n=n, of=of, after=after))
    return " UNION ".join(parts), values


def limits(session: orm.Session) -> list[MessageLimit]:
    """All limits: those of all channels first, each by its period."""
    found = session.scalars(sa.select(MessageLimit)).all()
    units = list(MOST_LENGTH)
    return sorted(found, key=lambda one: (one.channel, units.index(one.unit), one.length))


def waits(
    session: orm.Session,
    numbers: dict[int, int],
    channel: str,
    now: dt.datetime,
    zone: zoneinfo.ZoneInfo,
) -> dict[int, dt.datetime]:
    """Who of some contacts ({contact: number of the delivery}) has no room for a message of a
    channel, and until when. `zone` is that of contacts without one."""
    caps = [one.cap for one in limits(session)]
    asked = [cap for cap in caps if cap.channel in ("", channel)]
    if not asked or not numbers:
        return {}
    since = now - max(cap.reaches_back() for cap in asked)
    rows = session.execute(
        sa.text(HAD),
        {
            "ids": list(numbers),
            "mine": list(numbers.values()),
            "now": now,
            "since": since,
            "taken": since - _LATEST,
        },
    )
    had: dict[int, list[tuple[str, dt.datetime]]] = {}
    zones: dict[int, zoneinfo.ZoneInfo] = {}
    for contact, place, of, at in rows:
        had.setdefault(contact, []).append((of, at))
        if contact not in zones:
            zones[contact] = zone_of(place) or zone
    found = {
        contact: room_for(asked, moments, channel, now, zones[contact])
        for contact, moments in had.items()
    }
    return {contact: until for contact, until in found.items() if until is not None}


def save(session: orm.Session, actor: Actor, now: dt.datetime, cap: Cap) -> MessageLimit:
    """Adds a limit. Raises Invalid naming the field, Conflict where there is one for this period
    already."""
    if cap.unit not in MOST_LENGTH:
        raise Invalid("Choose minutes, days, weeks or months.", "unit")
    if cap.channel and cap.channel not in CHANNELS:
        raise Invalid("There is no such channel.", "channel")
    if not 1 <= cap.most <= 1000:
        raise Invalid("A limit is between 1 and 1,000 messages.", "most")
    longest = MOST_LENGTH[cap.unit]
    if not 1 <= cap.length <= longest:
        most = wording.count_of(longest, cap.unit)
        raise Invalid(Wording("A period is at most %(most)s.", most=most), "length")
    for other in limits(session):
        if (other.channel, other.unit, other.length) == (cap.channel, cap.unit, cap.length):
            raise Conflict(
                Wording("There is a limit for this period: %(words)s.", words=other.cap.words())
            )
    made = MessageLimit(
        most=cap.most,
        length=cap.length,
        unit=cap.unit,
        channel=cap.channel,
        changed_by=actor.name,
        changed_at=now,
    )
    session.add(made)
    session.flush()
    _changed(session, actor, now, "added the message limit", made)
    return made


def change(session: orm.Session, actor: Actor, now: dt.datetime, ident: int, most: int) -> None:
    """Another number for a limit. Raises NotFound or Invalid."""
    limit = _limit(session, ident)
    if not 1 <= most <= 1000:
        raise Invalid("A limit is between 1 and 1,000 messages.", "most")
    limit.most, limit.changed_by, limit.changed_at = most, actor.name, now
    _changed(session, actor, now, "changed the message limit", limit)


def delete(session: orm.Session, actor: Actor, now: dt.datetime, ident: int) -> None:
    """Takes a limit away. Raises NotFound."""
    limit = _limit(session, ident)
    session.delete(limit)
    _changed(session, actor, now, "deleted the message limit", limit)


def _limit(session: orm.Session, ident: int) -> MessageLimit:
    limit = session.get(MessageLimit, ident, with_for_update=True)
    if limit is None:
        raise NotFound("This limit does not exist any more.")
    return limit


def _changed(
    session: orm.Session, actor: Actor, now: dt.datetime, did: str, limit: MessageLimit
) -> None:
    """Writes down that a limit is another, and has everybody judged again who waits for room."""
    audit.record(session, actor, now, did, "limit", limit.id, str.__str__(limit.cap.words()))
    session.flush()
    judge_again(session, now)
    jobs.enqueue(session, "outgoing.sweep")
