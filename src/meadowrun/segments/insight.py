"""What a set of people is like beside others: overlap, comparison, profile, growth."""

import dataclasses
import datetime as dt
import math
import zoneinfo
from collections.abc import Sequence

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.base.db import number_array
from meadowrun.core import wording
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.dates import Clock, rolling
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.segments.looking import look
from meadowrun.segments.models import Segment, SegmentMembers, SegmentSize


def refresh(session: orm.Session, segment: Segment, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> BitMap | None:
    """Works a segment out and keeps who is in it and how many; None when its lines need mending."""
    try:
        definition = d.parse(segment.definition, words, (segment.id,))
    except d.DefinitionError:
        return None
    found = look(session, definition, words, now, zone).sieve.members
    segment.size, segment.sized_at = len(found), now
    values = {"version": segment.version, "as_of": now, "numbers": found.serialize()}
    session.execute(insert(SegmentMembers).values(segment_id=segment.id, **values).on_conflict_do_update(
        index_elements=["segment_id"], set_=values))
    session.execute(insert(SegmentSize).values(segment_id=segment.id, day=now.astimezone(zone).date(), size=len(found))
                    .on_conflict_do_update(index_elements=["segment_id", "day"], set_={"size": len(found)}))
    return found


@dataclasses.dataclass(frozen=True)
class Overlap:
    segment: Segment
    shared: int
    size: int
    as_of: dt.datetime


def alike(session: orm.Session, members: BitMap, but: int | None, most: int = 3) -> list[Overlap]:
    """The saved segments that share most with a set (by the Jaccard index), from their sets as last worked out."""
    if not members:
        return []
    found = []
    for segment, kept in session.execute(sa.select(Segment, SegmentMembers).join(SegmentMembers, SegmentMembers.segment_id == Segment.id)):
        if segment.id != but:
            other = BitMap.deserialize(kept.numbers)
            index = members.jaccard_index(other)
            if index >= 0.05:
                found.append((index, Overlap(segment, members.intersection_cardinality(other), len(other), kept.as_of)))
    return [overlap for _, overlap in sorted(found, key=lambda f: -f[0])[:most]]


def growth(session: orm.Session, segment_id: int, today: dt.date, days: int = 90) -> list[tuple[dt.date, int]]:
    """The sizes of the last days on which it was counted, oldest first."""
    return [(row.day, row.size) for row in session.scalars(sa.select(SegmentSize).where(
        SegmentSize.segment_id == segment_id, SegmentSize.day >= today - dt.timedelta(days=days)).order_by(SegmentSize.day))]


def regions(sets: Sequence[BitMap]) -> dict[tuple[bool, ...], int]:
    """How many are in exactly these of several sets: (in the first, in the second, …) → people, without those in none."""
    union = BitMap.union(*sets) if len(sets) > 1 else sets[0]
    found = {}
    for mask in range(1, 2 ** len(sets)):
        inside = tuple(bool(mask >> place & 1) for place in range(len(sets)))
        part = union
        for member, chosen in zip(sets, inside, strict=True):
            part = part & member if chosen else part - member
        found[inside] = len(part)
    return found


@dataclasses.dataclass(frozen=True)
class Trait:
    """One thing that is commoner, or rarer, in a set than among everyone. Shares are of people, from 0 to 1."""

    about: str
    value: str
    here: int
    here_share: float
    everyone_share: float
    #: how many standard errors the two shares are apart (two proportions, pooled)
    strength: float

    @property
    def lift(self) -> float:
        return self.here_share / self.everyone_share if self.everyone_share else math.inf


def profile(session: orm.Session, members: BitMap, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo,
            days: int = 90) -> list[Trait]:
    """What is commoner or rarer in a set than among everyone, the surest first: values of fields, what they did lately, hours.

    A trait is judged by the two-proportion z statistic of the set beside those not in it; below 3 it is left out as
    what chance would bring when many things are compared.
    """
    session.execute(sa.text("CREATE TEMPORARY TABLE chosen (id bigint PRIMARY KEY) ON COMMIT DROP"))
    session.execute(sa.text("INSERT INTO chosen SELECT unnest(CAST(:ids AS bigint[]))"), {"ids": number_array(members)})
    session.execute(sa.text("ANALYZE chosen"))
    everyone = session.execute(sa.text("SELECT count(*) FROM contacts")).scalar_one()
    found: list[Trait] = []
    try:
        for spec in words.fields.values():
            found += _field_traits(session, spec, len(members), everyone)
        # The calendar days that a line of a segment means by the same words, on the organisation's clock.
        since = Clock(now, zone).midnight(rolling("in_last", days, now.astimezone(zone).date())[0])
        rows = session.execute(sa.text(
            "SELECT e.kind_id, count(DISTINCT e.contact_id), count(DISTINCT e.contact_id) FILTER (WHERE h.id IS NOT NULL) FROM events e "
            "LEFT JOIN chosen h ON h.id = e.contact_id WHERE e.at >= :since AND e.at <= :now GROUP BY 1"), {"since": since, "now": now}).all()
        did = {spec.id: spec.did for spec in words.events.values()}
        found += [t for kind, total, here in rows if (t := _trait(f"in the last {days} days", did.get(kind, "?"), here, len(members),
                                                                 total, everyone))]
        found += _hours(session, since, zone)
    finally:
        session.execute(sa.text("DROP TABLE chosen"))
    return sorted(found, key=lambda t: -abs(t.strength))


def _field_traits(session: orm.Session, spec: FieldSpec, size: int, everyone: int) -> list[Trait]:
    if spec.is_day or spec.type == "number":
        return _band_traits(session, spec, size, everyone)
    if spec.ref in ("first_name", "last_name", "email", "reference", "phone", "company.name"):
        return []
    table = "k" if spec.owner == "company" else "c"
    value = f"{table}.{spec.column}" if spec.column else f"{table}.attributes->>:key"
    if spec.type == "choices":
        value = f"jsonb_array_elements_text(CASE jsonb_typeof({table}.attributes->:key) WHEN 'array' THEN {table}.attributes->:key END)"
    rows = session.execute(sa.text(
        f"SELECT v, count(*), count(h) FROM (SELECT {value} AS v, h.id AS h FROM contacts c LEFT JOIN chosen h ON h.id = c.id "
        "LEFT JOIN companies k ON k.id = c.company_id) x WHERE v IS NOT NULL AND v <> '' GROUP BY v ORDER BY 2 DESC LIMIT 60"),
        {"key": spec.key}).all()
    words = {"true": "yes", "false": "no"}
    return [t for v, total, here in rows if (t := _trait(spec.label, words.get(v, v) if spec.type == "yes_no" else v, here, size,
                                                        total, everyone))]


def _band_traits(session: orm.Session, spec: FieldSpec, size: int, everyone: int) -> list[Trait]:
    """A number or a date by the quarters of everyone who has one: each band holds about as many of them. Equal bounds fall together."""
    table, kind = ("k" if spec.owner == "company" else "c"), "numeric" if spec.type == "number" else "date"
    value = f"CAST({f'{table}.attributes->>:key' if kind == 'numeric' else f'substr({table}.attributes->>:key, 1, 10)'} AS {kind})"
    source = f"SELECT {value} AS v, h.id AS h FROM contacts c LEFT JOIN chosen h ON h.id = c.id LEFT JOIN companies k ON k.id = c.company_id"
    bounds = session.execute(sa.text(f"SELECT percentile_disc(ARRAY[0.25, 0.5, 0.75]) WITHIN GROUP (ORDER BY v), max(v) FROM ({source}) x"),
                             {"key": spec.key}).one()
    edges = sorted(set(bounds[0] or ()) - {bounds[1]})
    if not edges:
        return []
    band = " + ".join(f"CAST(v > :edge{n} AS integer)" for n in range(len(edges)))
    rows = session.execute(sa.text(f"SELECT {band} AS band, count(*), count(h) FROM ({source}) x WHERE v IS NOT NULL GROUP BY 1"),
                           {"key": spec.key} | {f"edge{n}": e for n, e in enumerate(edges)}).all()
    shown = [wording.number(e) if spec.type == "number" else wording.day(e) for e in edges]
    return [t for band, total, here in rows if (t := _trait(spec.label, _band(band, shown, spec.type), here, size, total, everyone))]


def _band(band: int, shown: list[str], kind: str) -> str:
    low, high = shown[band - 1] if band else None, shown[band] if band < len(shown) else None
    after, until = ("more than", "up to") if kind == "number" else ("after", "until")
    return f"{after} {low}, {until} {high}" if low and high else f"{after} {low}" if low else f"{until} {high}"


def _hours(session: orm.Session, since: dt.datetime, zone: zoneinfo.ZoneInfo) -> list[Trait]:
    """The part of the day, on the organisation's clock, in which what people did lately falls; shares are of their events."""
    rows = session.execute(sa.text(
        "SELECT CASE WHEN hour < 6 THEN 'at night, before 6' WHEN hour < 12 THEN 'in the morning' WHEN hour < 18 THEN "
        "'in the afternoon' ELSE 'in the evening, from 18' END AS part, count(*), count(h) FROM (SELECT extract(hour FROM e.at "
        "AT TIME ZONE :zone) AS hour, h.id AS h FROM events e LEFT JOIN chosen h ON h.id = e.contact_id WHERE e.at >= :since) x "
        "GROUP BY 1"), {"since": since, "zone": str(zone)}).all()
    all_events, here_events = sum(r[1] for r in rows), sum(r[2] for r in rows)
    return [t for part, total, here in rows if (t := _trait("does things", part, here, here_events, total, all_events))]


def _trait(about: str, value: str, here: int, size: int, total: int, everyone: int) -> Trait | None:
    rest, rest_hits = everyone - size, total - here
    if not size or not rest:
        return None
    pooled = total / everyone
    error = math.sqrt(pooled * (1 - pooled) * (1 / size + 1 / rest))
    strength = (here / size - rest_hits / rest) / error if error else 0.0
    return Trait(about, value, here, here / size, total / everyone, strength) if abs(strength) >= 3 else None
