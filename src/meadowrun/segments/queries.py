"""Counting and looking: one set of contact numbers per line, kept for a little while, so that an edit costs one line."""

import dataclasses
import datetime as dt
import json
import threading
import zoneinfo
from collections import OrderedDict

import numpy as np
import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.clock import machine_now
from meadowrun.base.db import found
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.sieve import Sieve, sieve
from meadowrun.core.guardrails.verdict import Facts, verdict
from meadowrun.people.models import Contact
from meadowrun.segments.compile import Compiler
from meadowrun.segments.models import Segment, SegmentVersion

#: Kept sets are looked at, never sent to; so long may a number on screen lag behind the data.
KEEP = dt.timedelta(seconds=20)
_MOST_KEPT = 400
_Kept = tuple[dt.datetime, dict[str, BitMap]]
_kept: OrderedDict[str, _Kept] = OrderedDict()
_lock = threading.Lock()

#: What the verdict needs to know of each contact; callers may add columns, joins and a condition on `c`.
FACTS_SQL = """
SELECT c.id, c.email IS NOT NULL AS has_address, c.email_usable, s.address_key IS NOT NULL AS suppressed,
       c.bounced_at IS NOT NULL AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = c.email_key
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'email' AND ch.topic_id = 0
{join}"""


def facts_sql(topic_id: int | None, columns: str = "", join: str = "") -> str:
    """FACTS_SQL for a message of one topic, or of none; `columns` begins with a comma."""
    if topic_id is None:
        return FACTS_SQL.format(topic="NULL::boolean", columns=columns, join=join)
    topic = f"LEFT JOIN consents t ON t.contact_id = c.id AND t.channel = 'email' AND t.topic_id = {int(topic_id)} "
    return FACTS_SQL.format(topic="t.agreed", columns=columns, join=topic + join)


def id_set(session: orm.Session, query: str, values: dict[str, object]) -> BitMap:
    """The numbers that a query of one bigint column named id yields, fetched as one binary value."""
    binary = session.execute(sa.text(f"SELECT array_send(array_agg(x.id)) FROM ({query}) x"), values).scalar()
    return from_array(binary)


def from_array(binary: bytes | None) -> BitMap:
    """A set from PostgreSQL's binary form of a one-dimensional bigint array."""
    if binary is None or len(binary) < 20:
        return BitMap()
    # 20 bytes of header, then for each number its length (4 bytes) and itself (8 bytes).
    items = np.frombuffer(binary, dtype=[("length", ">i4"), ("value", ">i8")], offset=20)
    return BitMap(items["value"].astype(np.uint32))


def _keep(key: str, now: dt.datetime, work: object) -> _Kept:
    moment = machine_now()
    with _lock:
        found = _kept.get(key)
        if found and moment - found[0] < KEEP:
            _kept.move_to_end(key)
            return found
    made: _Kept = (moment, work())  # type: ignore[operator]
    with _lock:
        _kept[key] = made
        while len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
    return made


def forget(all_but: str | None = None) -> None:
    """Drops every kept set: after this process changed people itself, and between tests."""
    with _lock:
        for key in [k for k in _kept if all_but is None or not k.endswith(f":{all_but}")]:
            del _kept[key]


@dataclasses.dataclass(frozen=True)
class Looking:
    """What one look at a definition found; `as_of` is when the oldest set in it was fetched."""

    sieve: Sieve
    reach: dict[str, int]
    as_of: dt.datetime
    seconds: float


def look(session: orm.Session, definition: d.Definition, words: Dictionary, now: dt.datetime,
         zone: zoneinfo.ZoneInfo) -> Looking:
    """The whole sieve of a definition, from kept sets where there are fresh ones."""
    started = machine_now()
    place = str(session.get_bind().engine.url)
    today = now.astimezone(zone).date()
    oldest = started
    sets: dict[str, BitMap] = {}

    def fetch(query: str, values: dict[str, object]) -> dict[str, BitMap]:
        return {"": id_set(session, query, values)}

    at, made = _keep(f"{place}:everyone", now, lambda: fetch("SELECT c.id FROM contacts c", {}))
    everyone, oldest = made[""], min(oldest, at)
    for node in definition.walk():
        if isinstance(node, d.Group):
            continue
        content = d.dump_node(node)
        content.pop("id"), content.pop("off", None)
        key = f"{place}:{today}:{json.dumps(content, sort_keys=True)}"
        compiler = Compiler(words, now, zone)
        predicate = compiler.node(node)
        at, made = _keep(key, now, lambda p=predicate, v=compiler.values: fetch(
            f"SELECT c.id FROM contacts c WHERE {p}", v))
        sets[node.id], oldest = made[""], min(oldest, at)
    found = sieve(definition, sets, everyone)
    _, reach_sets = _keep(f"{place}:reach", now, lambda: outcome_sets(session, None))
    reach = {name: len(found.members & members) for name, members in reach_sets.items()}
    return Looking(found, reach, oldest, (machine_now() - started).total_seconds())


def outcome_sets(session: orm.Session, topic_id: int | None) -> dict[str, BitMap]:
    """Everyone, by what the verdict says of an email to them: "go" or an outcome."""
    rows = session.execute(sa.text(
        "SELECT has_address, email_usable, suppressed, bounced, consent, channel_consent, array_send(array_agg(id)) "
        f"FROM ({facts_sql(topic_id)}) f GROUP BY 1, 2, 3, 4, 5, 6")).all()
    found: dict[str, BitMap] = {}
    for row in rows:
        said = verdict(Facts(*row[:6]))
        found[said] = found.get(said, BitMap()) | from_array(row[6])
    return found


def count(session: orm.Session, definition: d.Definition, words: Dictionary, now: dt.datetime,
          zone: zoneinfo.ZoneInfo) -> int:
    """How many match, straight from the database."""
    compiler = Compiler(words, now, zone)
    predicate = compiler.definition(definition)
    return session.execute(sa.text(f"SELECT count(*) FROM contacts c WHERE {predicate}"), compiler.values).scalar_one()


def members(session: orm.Session, ids: BitMap, most: int, after: int = 0) -> list[Contact]:
    """Up to `most` contacts of a set with numbers above `after`, in order of number."""
    place = ids.rank(after)
    chosen = list(ids[place:place + most]) if place < len(ids) else []
    return list(session.scalars(sa.select(Contact).where(Contact.id.in_(chosen)).order_by(Contact.id)))


def segment(session: orm.Session, segment_id: int) -> Segment:
    return found(session, Segment, segment_id, "segment")


def segments(session: orm.Session) -> list[Segment]:
    return list(session.scalars(sa.select(Segment).order_by(Segment.name)))


def versions(session: orm.Session, segment_id: int) -> list[SegmentVersion]:
    return list(session.scalars(sa.select(SegmentVersion).where(SegmentVersion.segment_id == segment_id)
                                .order_by(SegmentVersion.version.desc())))


