"""Counting and looking: one set of contact numbers per line, kept for a little while, so that an edit costs one line."""

import array
import dataclasses
import datetime as dt
import json
import threading
import zoneinfo
from collections import OrderedDict
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import sqlalchemy as sa
from numpy.typing import NDArray
from pyroaring import BitMap
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONPATH

from meadowrun.base import own_writes
from meadowrun.base.clock import machine_now
from meadowrun.base.db import found
from meadowrun.core.audience.dates import Clock
from meadowrun.core.audience.definition import dump_node
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import Definition, Group
from meadowrun.core.audience.sieve import Sieve, sieve
from meadowrun.core.guardrails.verdict import CHANNEL_WORDS, Facts, verdict
from meadowrun.people.models import Contact
from meadowrun.people.queries import NUMBER, definitions_using
from meadowrun.segments.compile import SEPARATE, Compiler
from meadowrun.segments.models import Segment, SegmentVersion

#: Kept sets are looked at, never sent to; so long may a number on screen lag behind the data.
KEEP = dt.timedelta(seconds=20)
_MOST_KEPT = 400
_Kept = tuple[dt.datetime, dict[str, BitMap]]
_kept: OrderedDict[str, _Kept] = OrderedDict()
_lock = threading.Lock()

#: What the verdict needs to know of each contact; callers may add columns, joins and a condition on `c`.
FACTS_SQL = """
SELECT c.id, c.email IS NOT NULL AS has_address, c.email_usable,
       s.address_key IS NOT NULL OR sd.address_key IS NOT NULL AS suppressed,
       c.bounced_at IS NOT NULL AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = c.email_key
LEFT JOIN suppressions sd ON sd.address_key = '@' || split_part(c.email_key, '@', 2)
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'email' AND ch.topic_id = 0
{join}"""


#: The same for text messages, by phone number.
FACTS_SMS_SQL = f"""
SELECT c.id, c.phone IS NOT NULL AS has_address, {NUMBER} ~ '^[+][0-9]{{{{8,15}}}}$' AS email_usable,
       s.address_key IS NOT NULL AS suppressed, FALSE AS bounced, {{topic}} AS consent, ch.agreed AS channel_consent{{columns}}
FROM contacts c
LEFT JOIN suppressions s ON s.address_key = {NUMBER}
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'sms' AND ch.topic_id = 0
{{join}}"""


#: The same for push notices, by the browsers that gave permission.
FACTS_PUSH_SQL = """
SELECT c.id, EXISTS (SELECT 1 FROM push_devices p WHERE p.contact_id = c.id AND p.gone_at IS NULL) AS has_address, TRUE AS email_usable,
       FALSE AS suppressed, FALSE AS bounced, {topic} AS consent, ch.agreed AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'push' AND ch.topic_id = 0
{join}"""
#: The same for in-app cards: they wait on the website for anyone who did not say no to them.
FACTS_CARD_SQL = """
SELECT c.id, TRUE AS has_address, TRUE AS email_usable, FALSE AS suppressed, FALSE AS bounced, {topic} AS consent,
       coalesce(ch.agreed, TRUE) AS channel_consent{columns}
FROM contacts c
LEFT JOIN consents ch ON ch.contact_id = c.id AND ch.channel = 'card' AND ch.topic_id = 0
{join}"""
FACTS_BY_CHANNEL = {"sms": FACTS_SMS_SQL, "push": FACTS_PUSH_SQL, "card": FACTS_CARD_SQL}


def facts_sql(topic_id: int | None, columns: str = "", join: str = "", channel: str = "email") -> str:
    """What the verdict needs to know for a message of one topic, or of none, on a channel; `columns` begins with a comma."""
    facts = FACTS_BY_CHANNEL.get(channel, FACTS_SQL)
    if topic_id is None:
        return facts.format(topic="NULL::boolean", columns=columns, join=join)
    topic = f"LEFT JOIN consents t ON t.contact_id = c.id AND t.channel = '{channel}' AND t.topic_id = {int(topic_id)} "
    return facts.format(topic="t.agreed", columns=columns, join=topic + join)


def id_sets(session: orm.Session, predicates: Sequence[str], values: dict[str, object]) -> list[BitMap]:
    """The numbers of the contacts that match each predicate over `c`, as binary values: from one pass, or, where there are several
    and this transaction has written nothing that only it can see, from two at once.

    PostgreSQL counts with several processes but collects with one, so we share the lines out ourselves.
    """
    if len(predicates) < _SHARED or session.execute(sa.text("SELECT pg_current_xact_id_if_assigned() IS NOT NULL")).scalar():
        return _one_pass(session, predicates, values)
    # The dear ones ask something of their own for each person; they are dealt out in turn.
    order = sorted(range(len(predicates)), key=lambda place: -predicates[place].count("SELECT"))
    mine, theirs = order[::2], order[1::2]

    def other() -> list[BitMap]:
        with session.get_bind().engine.connect() as connection:
            return _one_pass(connection, [predicates[place] for place in theirs], values)

    with ThreadPoolExecutor(1) as pool:
        waiting = pool.submit(other)
        found = dict(zip(mine, _one_pass(session, [predicates[place] for place in mine], values), strict=True))
        found |= dict(zip(theirs, waiting.result(), strict=True))
    return [found[place] for place in range(len(predicates))]


def _one_pass(session: orm.Session | sa.Connection, predicates: Sequence[str], values: dict[str, object]) -> list[BitMap]:
    if len(predicates) == 1:
        # On its own a predicate may be joined, or use an index.
        query = f"SELECT array_send(array_agg(c.id)) FROM contacts c WHERE {predicates[0].removesuffix(SEPARATE)}"
        return [_set(_numbers(session.execute(sa.text(query), values).scalar()))]
    # One number of bits for each contact is cheaper to collect and to send than an array for each predicate.
    words = [predicates[place:place + _BITS] for place in range(0, len(predicates), _BITS)]
    columns = ", ".join("array_send(array_agg({}))".format(" + ".join(
        f"CASE WHEN {p} THEN {1 << bit} ELSE 0 END" for bit, p in enumerate(word))) for word in words)
    row = session.execute(sa.text(f"SELECT array_send(array_agg(c.id)), {columns} FROM contacts c"), values).one()
    ids, *masks = (_numbers(binary) for binary in row)
    return [_set(ids[(mask >> bit) & 1 == 1]) for word, mask in zip(words, masks, strict=True) for bit in range(len(word))]


#: From so many predicates on they are shared out.
_SHARED = 3
#: Predicates a mask holds: bits of PostgreSQL's integer without its sign.
_BITS = 30


def _numbers(binary: bytes | None) -> NDArray[np.uint32]:
    """The items of PostgreSQL's binary form of a one-dimensional array of integer or bigint."""
    if binary is None or len(binary) < 20:
        return np.empty(0, np.uint32)
    # 20 bytes of header, then for each number its length (4 bytes) and itself (as many bytes as that says).
    size = int.from_bytes(binary[20:24], "big")
    items = np.frombuffer(binary, dtype=[("length", ">i4"), ("value", f">i{size}")], offset=20)
    return items["value"].astype(np.uint32)


def _set(ids: NDArray[np.uint32]) -> BitMap:
    # Through the standard library's array it is made six times faster than from NumPy's.
    return BitMap(array.array("I", ids.tobytes()))


def _fresh(session: orm.Session, key: str, moment: dt.datetime) -> _Kept | None:
    oldest = max(moment - KEEP, own_writes.last(session))
    with _lock:
        found = _kept.get(key)
        if found and found[0] > oldest:
            _kept.move_to_end(key)
            return found
    return None


def _put(key: str, moment: dt.datetime, sets: dict[str, BitMap]) -> _Kept:
    with _lock:
        _kept[key] = (moment, sets)
        while len(_kept) > _MOST_KEPT:
            _kept.popitem(last=False)
        return _kept[key]


def forget(but_reach: bool = False) -> None:
    """Drops every kept set: after this process changed people itself, and between tests. May keep whom each channel can reach."""
    with _lock:
        for key in [k for k in _kept if not (but_reach and ":reach:" in k)]:
            del _kept[key]


def zones(session: orm.Session) -> list[str]:
    """Every time zone that a contact names, by stepping through the index from one name to the next."""
    return list(session.scalars(sa.text(
        "WITH RECURSIVE z AS ((SELECT timezone FROM contacts WHERE timezone IS NOT NULL ORDER BY timezone LIMIT 1) UNION ALL "
        "SELECT (SELECT c.timezone FROM contacts c WHERE c.timezone > z.timezone ORDER BY c.timezone LIMIT 1) FROM z "
        "WHERE z.timezone IS NOT NULL) SELECT timezone FROM z WHERE timezone IS NOT NULL")))


def compiler_for(session: orm.Session, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> Compiler:
    """A compiler that knows the clocks people live by; `zone` is for those without one."""
    return Compiler(words, Clock(now, zone), zones(session))


@dataclasses.dataclass(frozen=True)
class Looking:
    """What one look at a definition found; `as_of` is when the oldest set in it was fetched."""

    sieve: Sieve
    #: channel → outcome of a message there, “go” or why not → how many of them
    reach: dict[str, dict[str, int]]
    as_of: dt.datetime
    seconds: float
    #: the set of each line, by its id, and everyone
    sets: dict[str, BitMap]
    everyone: BitMap


def look(session: orm.Session, definition: Definition, words: Dictionary, now: dt.datetime,
         zone: zoneinfo.ZoneInfo) -> Looking:
    """The whole sieve of a definition, from kept sets where there are fresh ones."""
    started = machine_now()
    place = str(session.get_bind().engine.url)
    today = now.astimezone(zone).date()
    compiler = compiler_for(session, words, now, zone)
    keys: dict[str, str] = {"": f"{place}:everyone"}
    missing: dict[str, str] = {}
    if not _fresh(session, keys[""], started):
        missing[keys[""]] = "TRUE"
    for node in definition.walk():
        if not isinstance(node, Group) or node.match == "colleagues":
            content = dump_node(node)
            content.pop("id"), content.pop("off", None)
            keys[node.id] = f"{place}:{today}:{json.dumps(content, sort_keys=True)}"
            if not _fresh(session, keys[node.id], started):
                missing[keys[node.id]] = compiler.node(node)
    fetched = dict(zip(missing, id_sets(session, list(missing.values()), compiler.values), strict=True)) if missing else {}
    kept = {ident: _put(key, started, {"": fetched[key]}) if key in fetched else _fresh(session, key, started) or (started, {})
            for ident, key in keys.items()}
    oldest = min(at for at, _ in kept.values())
    sets, everyone = {ident: made[""] for ident, (_, made) in kept.items() if ident}, kept[""][1][""]
    found = sieve(definition, sets, everyone)
    reach = {}
    for channel in channels_used(session):
        reach_key = f"{place}:reach:{channel}"
        reach_sets = (_fresh(session, reach_key, started) or _put(reach_key, started, outcome_sets(session, channel, everyone)))[1]
        sizes = {name: len(found.members & members) for name, members in reach_sets.items()}
        reach[channel] = {name: size for name, size in sizes.items() if size}
    return Looking(found, reach, oldest, (machine_now() - started).total_seconds(), sets, everyone)


def channels_used(session: orm.Session) -> list[str]:
    """Email, and each other channel that there is a message for."""
    there = set(session.scalars(sa.text("SELECT DISTINCT channel FROM messages")))
    return [channel for channel in CHANNEL_WORDS if channel == "email" or channel in there]


_REFUSED = "c.id IN (SELECT x.contact_id FROM consents x WHERE x.channel = '{}' AND x.topic_id = 0 AND NOT x.agreed)"
#: channel → of whom something must be known, and what the verdict says of everyone else. Most people have no part in most channels.
_CONCERNED = {
    "sms": ("WHERE c.phone IS NOT NULL OR " + _REFUSED.format("sms"), "no_address"),
    "push": ("WHERE c.id IN (SELECT p.contact_id FROM push_devices p) OR " + _REFUSED.format("push"), "no_address"),
    "card": ("WHERE " + _REFUSED.format("card"), "go")}


def outcome_sets(session: orm.Session, channel: str, everyone: BitMap) -> dict[str, BitMap]:
    """Everyone, by what the verdict says of a message of no topic to them on a channel: "go" or an outcome."""
    concerned, otherwise = _CONCERNED.get(channel, ("", "go"))
    rows = session.execute(sa.text(
        "SELECT has_address, email_usable, suppressed, bounced, consent, channel_consent, array_send(array_agg(id)) "
        f"FROM ({facts_sql(None, join=concerned, channel=channel)}) f GROUP BY 1, 2, 3, 4, 5, 6")).all()
    found: dict[str, BitMap] = {}
    for row in rows:
        said = verdict(Facts(*row[:6]))
        found[said] = found.get(said, BitMap()) | _set(_numbers(row[6]))
    if concerned:
        rest = everyone.copy()
        for members in found.values():
            rest -= members
        found[otherwise] = found.get(otherwise, BitMap()) | rest
    return found


def count(session: orm.Session, definition: Definition, words: Dictionary, now: dt.datetime,
          zone: zoneinfo.ZoneInfo) -> int:
    """How many match, straight from the database."""
    compiler = compiler_for(session, words, now, zone)
    predicate = compiler.definition(definition)
    return session.execute(sa.text(f"SELECT count(*) FROM contacts c WHERE {predicate}"), compiler.values).scalar_one()


def member_set(session: orm.Session, definition: Definition, words: Dictionary, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> BitMap:
    """Everyone who matches, straight from the database."""
    compiler = compiler_for(session, words, now, zone)
    (found,) = id_sets(session, [compiler.definition(definition)], compiler.values)
    return found


def members(session: orm.Session, ids: BitMap, most: int, after: int = 0) -> list[Contact]:
    """Up to `most` contacts of a set with numbers above `after`, in order of number."""
    # No number in a set is larger than that.
    place = ids.rank(min(after, 2**32 - 1))
    chosen = list(ids[place:place + most]) if place < len(ids) else []
    return list(session.scalars(sa.select(Contact).where(Contact.id.in_(chosen)).order_by(Contact.id)))


def segment(session: orm.Session, segment_id: int) -> Segment:
    return found(session, Segment, segment_id, "segment")


def segments(session: orm.Session) -> list[Segment]:
    return list(session.scalars(sa.select(Segment).order_by(Segment.name)))


def naming(session: orm.Session, kind: str, key: str, number: int) -> list[Segment]:
    """The segments with a line, at any depth, of this kind whose `key` is this number."""
    path = sa.cast(f'$.** ? (@.kind == "{kind}" && @.{key} == {int(number)})', JSONPATH)
    return list(session.scalars(sa.select(Segment).where(sa.func.jsonb_path_exists(Segment.definition, path)).order_by(Segment.name)))


def users(session: orm.Session, segment_id: int) -> list[str]:
    """What else is made of a segment, in words: other segments, partitions, messages and kept rows."""
    return definitions_using(session, f'$.** ? (@.kind == "segment" && @.segment == {int(segment_id)})')


def versions(session: orm.Session, segment_id: int) -> list[SegmentVersion]:
    return list(session.scalars(sa.select(SegmentVersion).where(SegmentVersion.segment_id == segment_id)
                                .order_by(SegmentVersion.version.desc())))


