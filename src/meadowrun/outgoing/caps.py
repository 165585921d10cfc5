"""Message limits: what is set, what people have had, and until when somebody waits for room.

Had is what was handed over or is in doubt, on the day it was handed over, and what a worker has in
hand at this moment: it is reserved when it is claimed. Contacts are locked from the claim until
their verdict is written, so two workers cannot both see the last room.
"""

import dataclasses
import datetime as dt
import json
import zoneinfo
from collections.abc import Mapping, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit, jobs
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core import wording
from meadowrun.core.channels import CHANNELS
from meadowrun.core.guardrails.caps import MOST_LENGTH, Cap, Had, room_for
from meadowrun.core.guardrails.verdict import NoRoom
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_of
from meadowrun.outgoing.models import Dispatch, MessageLimit
from meadowrun.outgoing.timing import FOR_ROOM, ZONES, judge_again
from meadowrun.tags.queries import paths

#: A message may go so many days after its audience was settled.
_LATEST = dt.timedelta(days=32)

#: What those had that counts who had enough of it that a limit may keep them waiting: contact,
#: channel, tags, moment, whether it is certain. `mine` are the deliveries asked for, one for each
#: of `ids`, `enough` how many messages are enough for them. Room goes first to whatever else is due
#: at this moment and comes before them: service, then by priority, then what waits longest, whose
#: number is the smaller. Contacts are looked up one by one (OFFSET 0): reading everybody’s
#: deliveries takes longer from the second batch on.
HAD = """
SELECT contact, channel, tags, at, certain FROM (
SELECT m.contact, s.channel, s.tags, CASE WHEN d.outcome IN ('waiting', 'deferred')
    THEN CAST(:now AS timestamptz) ELSE d.at END AS at,
    d.outcome IN ('delivered', 'in_doubt', 'in_hand') AS certain,
    count(*) OVER (PARTITION BY m.contact) AS times, m.enough
FROM unnest(CAST(:ids AS bigint[]), CAST(:mine AS bigint[]), CAST(:enough AS smallint[]))
    AS m(contact, number, enough)
CROSS JOIN LATERAL (SELECT * FROM deliveries d WHERE d.contact_id = m.contact
    AND d.taken_at >= :taken AND d.taken_at <= :now AND d.number <> m.number OFFSET 0) d
JOIN dispatches s ON s.id = d.dispatch_id
WHERE s.counts AND (d.outcome IN ('delivered', 'in_doubt', 'in_hand') AND d.at >= :since
    OR d.outcome IN ('waiting', 'deferred') AND d.claim IN (SELECT b.claim FROM batches b)
    OR d.outcome IN ('waiting', 'deferred') AND d.due <= :now AND s.state = 'running'
        AND (s.priority, m.number) > (CAST(:priority AS smallint), d.number))) x
WHERE times >= enough
"""
#: What may wait for room behind some deliveries is judged again: all of it, or (`:took`, where
#: these took theirs) what is not sent when there is none.
BEHIND = f"""
UPDATE deliveries d SET due = :now FROM dispatches s,
    unnest(CAST(:ids AS bigint[]), CAST(:mine AS bigint[])) AS m(contact, number)
WHERE d.contact_id = m.contact AND d.taken_at >= :taken AND d.outcome = 'waiting' AND d.due > :now
AND {FOR_ROOM} AND s.id = d.dispatch_id AND (NOT :took OR s.no_room = 'skip')
AND (CAST(:priority AS smallint), d.number) > (s.priority, m.number)
"""
#: Whether anything else is under way for which that matters.
OTHERS = """
SELECT 1 FROM dispatches s WHERE s.unsettled AND s.state = 'running' AND s.id <> :id
AND (NOT :took OR s.no_room = 'skip') LIMIT 1
"""


#: Who of some contacts wishes for so many messages a week at most.
WISHES = "SELECT id, most_a_week FROM contacts WHERE id = ANY(:ids) AND most_a_week IS NOT NULL"
#: Any wish, to know from when on messages count for one.
_A_WEEK = Cap(1, 1, "week")

#: Who has no room: contacts. `starts` says for each zone when the period began; a contact without a
#: zone has that of the organisation. {planned} are messages that are still to go before.
FULL = """
SELECT x.contact_id FROM (
    SELECT d.contact_id, c.timezone, c.most_a_week, d.at FROM deliveries d
    JOIN dispatches s ON s.id = d.dispatch_id JOIN contacts c ON c.id = d.contact_id
    WHERE s.counts AND {of} AND d.outcome IN ('delivered', 'in_doubt', 'in_hand')
    AND d.taken_at >= :taken_{n}{planned}) x
JOIN jsonb_to_recordset(CAST(:starts_{n} AS jsonb)) AS z(name text, since timestamptz)
    ON z.name IS NOT DISTINCT FROM x.timezone
WHERE x.at {after} z.since GROUP BY x.contact_id, x.most_a_week HAVING count(*) >= {most}
"""
#: One message to everybody of an audience that is planned.
_PLANNED = """
    UNION ALL SELECT c.id, c.timezone, c.most_a_week, CAST(:at_{place} AS timestamptz)
    FROM contacts c WHERE ({predicate}){wish}"""


@dataclasses.dataclass(frozen=True, slots=True)
class Planned:
    """A message that is still to go: to whom, as SQL over `contacts c`, when, and what it is."""

    predicate: str
    at: dt.datetime
    channel: str
    tags: frozenset[int]


@dataclasses.dataclass(frozen=True, slots=True)
class Asks:
    """A message about which it is asked who has no room for it: when it goes, what it is, whether
    limits and wishes hold for it, and what is to go before."""

    at: dt.datetime
    channel: str
    tags: frozenset[int]
    obeys: bool
    wishes: bool
    before: Sequence[Planned] = ()


def full_sql(
    session: orm.Session, asks: Asks, zone: zoneinfo.ZoneInfo
) -> tuple[str, dict[str, Any]]:
    """The contacts without room for a message, by the limits and by what they wish for, as SQL with
    its values; empty where neither is about it. `zone` is that of contacts without one."""
    about = [
        cap for cap in all_caps(session) if asks.obeys and cap.is_about(asks.channel, asks.tags)
    ]
    names = session.scalars(sa.text(ZONES)).all()
    parts = []
    values: dict[str, Any] = {f"at_{n}": one.at for n, one in enumerate(asks.before)}

    def add(name: str, cap: Cap, of: str, most: str) -> None:
        starts = [
            {"name": place, "since": cap.since(asks.at, (zone_of(place) or zone)).isoformat()}
            for place in names
        ]
        values[f"starts_{name}"] = json.dumps(starts)
        values[f"taken_{name}"] = asks.at - cap.reaches_back() - _LATEST
        planned = "".join(
            _PLANNED.format(
                place=place,
                predicate=one.predicate,
                wish=" AND c.most_a_week IS NOT NULL" if name == "wish" else "",
            )
            for place, one in enumerate(asks.before)
            if cap.is_about(one.channel, one.tags)
        )
        after = ">" if cap.unit == "minute" else ">="
        parts.append(FULL.format(n=name, of=of, planned=planned, after=after, most=most))

    if asks.wishes:
        add("wish", _A_WEEK, "c.most_a_week IS NOT NULL", "x.most_a_week")
    for n, cap in enumerate(about):
        of, values[f"most_{n}"] = "TRUE", cap.most
        if cap.channel:
            of, values[f"channel_{n}"] = f"s.channel = :channel_{n}", cap.channel
        if cap.tag:
            of += f" AND s.tags && CAST(:tags_{n} AS bigint[])"
            values[f"tags_{n}"] = sorted(cap.tags)
        add(str(n), cap, of, f":most_{n}")
    return " UNION ".join(parts), values


def limits(session: orm.Session) -> list[MessageLimit]:
    """All limits: those of all channels first, each by its period."""
    found = session.scalars(sa.select(MessageLimit)).all()
    units = list(MOST_LENGTH)
    return sorted(
        found, key=lambda one: (one.channel, one.tag_id or 0, units.index(one.unit), one.length)
    )


def all_caps(session: orm.Session) -> list[Cap]:
    """All limits as the rules know them."""
    found = limits(session)
    known = paths(session) if any(one.tag_id for one in found) else {}
    return [one.cap(known) for one in found]


def waits(
    session: orm.Session,
    numbers: dict[int, int],
    dispatch: Dispatch,
    now: dt.datetime,
    zones: Mapping[int, zoneinfo.ZoneInfo],
) -> dict[int, NoRoom]:
    """Who of some contacts ({contact: number of the delivery}) has no room for what a dispatch
    sends them, until when, and whether by a limit or by their own wish; `zones` are theirs. What
    contacts wish for holds for all but service messages, also for what obeys no
    limit."""
    tagged = frozenset(dispatch.tags)
    asked = [
        cap
        for cap in (all_caps(session) if dispatch.obeys_caps else ())
        if cap.is_about(dispatch.channel, tagged)
    ]
    wished: dict[int, Cap] = {}
    if numbers and dispatch.consent_rule != "service":
        found_wishes = session.execute(sa.text(WISHES), {"ids": list(numbers)})
        wished = {ident: Cap(most, 1, "week") for ident, most in found_wishes}
    if not numbers or not (asked or wished):
        return {}
    since = now - max(cap.reaches_back() for cap in (*asked, *wished.values()))
    fewest = [cap.most for cap in asked]
    ids = list(numbers if asked else wished)
    rows = session.execute(
        sa.text(HAD),
        {
            "ids": ids,
            "mine": [numbers[contact] for contact in ids],
            "enough": [
                min([*fewest, wished[contact].most] if contact in wished else fewest)
                for contact in ids
            ],
            "now": now,
            "since": since,
            "taken": since - _LATEST,
            "priority": dispatch.priority,
        },
    )
    had: dict[int, list[Had]] = {}
    sure: dict[int, list[Had]] = {}
    for contact, of, of_tags, at, certain in rows:
        one = Had(at, of, frozenset(of_tags))
        had.setdefault(contact, []).append(one)
        if certain:
            sure.setdefault(contact, []).append(one)
    found: dict[int, NoRoom] = {}
    for contact, moments in had.items():
        own = [wished[contact]] if contact in wished else []
        rest = (moments, dispatch.channel, now, zones[contact], tagged)
        until = room_for([*asked, *own], *rest)
        if until is not None:
            # The limit that they wait for is the one that leaves room last.
            by_wish = bool(own) and room_for(own, *rest) == until
            known = sure.get(contact, [])
            certain = room_for([*asked, *own], known, *rest[1:]) is not None
            found[contact] = NoRoom(until, "own_limit" if by_wish else "cap", certain)
    return found


def judge_behind(
    session: orm.Session,
    numbers: dict[int, int],
    dispatch: Dispatch,
    now: dt.datetime,
    took: bool,
) -> None:
    """Has judged again what may wait for room behind deliveries of a dispatch ({contact: number of
    the delivery}) that were due: all of it where these did not take the room after all; where they
    `took` it, what is not sent when there is none."""
    asked = sa.text(OTHERS)
    if not numbers or session.execute(asked, {"id": dispatch.id, "took": took}).scalar() is None:
        return
    session.execute(
        sa.text(BEHIND),
        {
            "ids": sorted(numbers),
            "mine": [numbers[contact] for contact in sorted(numbers)],
            "now": now,
            "taken": now - _LATEST,
            "priority": dispatch.priority,
            "took": took,
        },
    )


def save(
    session: orm.Session, actor: Actor, now: dt.datetime, cap: Cap, tag_id: int | None = None
) -> MessageLimit:
    """Adds a limit; `tag_id` is the tag that it is about. Raises Invalid naming the field, Conflict
    where there is one for this period already."""
    _check(session, cap.most, cap.length, cap.unit, cap.channel, tag_id)
    for other in limits(session):
        if _of(other) == (cap.channel, tag_id, cap.unit, cap.length):
            said = other.cap(paths(session)).words()
            raise Conflict(Wording("There is a limit for this period: %(words)s.", words=said))
    made = MessageLimit(
        most=cap.most,
        length=cap.length,
        unit=cap.unit,
        channel=cap.channel,
        tag_id=tag_id,
        changed_by=actor.name,
        changed_at=now,
    )
    session.add(made)
    session.flush()
    _changed(session, actor, now, "added the message limit", made)
    return made


def _of(limit: MessageLimit) -> tuple[str, int | None, str, int]:
    """What a limit is about: two limits of the same cannot be."""
    return limit.channel, limit.tag_id, limit.unit, limit.length


def _check(
    session: orm.Session, most: int, length: int, unit: str, channel: str, tag_id: int | None
) -> None:
    """Raises Invalid naming the field where a limit cannot be."""
    if unit not in MOST_LENGTH:
        raise Invalid("Choose minutes, days, weeks or months.", "unit")
    if channel and channel not in CHANNELS:
        raise Invalid("There is no such channel.", "channel")
    if not 1 <= most <= 1000:
        raise Invalid("A limit is between 1 and 1,000 messages.", "most")
    longest = MOST_LENGTH[unit]
    if not 1 <= length <= longest:
        said = wording.count_of(longest, unit)
        raise Invalid(Wording("A period is at most %(most)s.", most=said), "length")
    if tag_id is not None and tag_id not in paths(session):
        raise Invalid("There is no such tag any more.", "tag")


@dataclasses.dataclass(frozen=True, slots=True)
class Wanted:
    """A limit as it is wanted: what it is about, and how many."""

    channel: str
    tag_id: int | None
    unit: str
    length: int
    most: int


def set_all(session: orm.Session, actor: Actor, now: dt.datetime, wanted: Sequence[Wanted]) -> int:
    """Makes these, and no others, the limits. Says how many are others now. Raises Invalid."""
    session.execute(sa.text("LOCK TABLE caps IN SHARE ROW EXCLUSIVE MODE"))
    there = {_of(limit): limit for limit in limits(session)}
    asked = {(one.channel, one.tag_id, one.unit, one.length): one for one in wanted}
    others = 0
    for of, one in asked.items():
        _check(session, one.most, one.length, one.unit, one.channel, one.tag_id)
        known = there.get(of)
        if known is None:
            cap = Cap(one.most, one.length, one.unit, one.channel)
            save(session, actor, now, cap, one.tag_id)
            others += 1
        elif known.most != one.most:
            change(session, actor, now, known.id, one.most)
            others += 1
    for of, limit in there.items():
        if of not in asked:
            delete(session, actor, now, limit.id)
            others += 1
    return others


def as_caps(session: orm.Session, wanted: Sequence[Wanted]) -> list[Cap]:
    """Limits as they are wanted, as the rules know them. Raises Invalid."""
    for one in wanted:
        _check(session, one.most, one.length, one.unit, one.channel, one.tag_id)
    known = paths(session)
    return [
        MessageLimit(
            most=one.most,
            length=one.length,
            unit=one.unit,
            channel=one.channel,
            tag_id=one.tag_id,
        ).cap(known)
        for one in wanted
    ]


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
    audit.record(
        session, actor, now, did, "limit", limit.id, str.__str__(limit.cap(paths(session)).words())
    )
    session.flush()
    judge_again(session, now)
    jobs.enqueue(session, "outgoing.sweep")
