"""Sets of contact numbers that are kept for a while: in this process and, in a large world, in the
database for all of them.

They are looked at, never sent to. The worker keeps those that somebody looks at fresh, see
segments/jobs.py.
"""

import base64
import dataclasses
import datetime as dt
import hashlib
import json
import re
from collections.abc import Iterable, Mapping
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.cache import Cache
from meadowrun.base.db import place_of
from meadowrun.base.large import is_large

#: So long may a number lag behind the data where nothing is said of it.
KEEP = dt.timedelta(seconds=20)
#: So long where the page says as of when it is, and makes itself exact.
STALE = dt.timedelta(minutes=15)
#: What is asked for is noted this often, so that looking does not write each time.
_NOTED = dt.timedelta(minutes=5)
#: The database's counts of changes lag behind by up to ten seconds (it collects them from idle
#: connections that often).
COUNTED_AFTER = dt.timedelta(seconds=15)


@dataclasses.dataclass(frozen=True)
class Wanted:
    """What a set is asked for: the line of a segment, everyone, or whom a channel reaches, on a
    day."""

    about: Mapping[str, Any]
    day: dt.date
    #: the statement's words and values: the same again means the same answer, unless the data
    #: changed
    statement: str

    @property
    def key(self) -> str:
        text = json.dumps([self.about, self.day.isoformat()], sort_keys=True, default=str)
        return hashlib.sha256(text.encode()).hexdigest()

    @property
    def tables(self) -> tuple[str, ...]:
        """The tables that the statement reads."""
        return tuple(
            sorted({"contacts", *re.findall(r"\b(?:FROM|JOIN) ([a-z_]+)", self.statement)})
        )

    @property
    def stamp(self) -> str:
        return hashlib.sha256(self.statement.encode()).hexdigest()


@dataclasses.dataclass(frozen=True)
class Kept:
    """What was committed before `as_of` is in the sets."""

    as_of: dt.datetime
    sets: Mapping[str, BitMap]


_kept: Cache[Kept] = Cache(400)

_KNOWN = (
    "SELECT k.key, k.as_of, k.asked_at, k.sets FROM kept_sets k WHERE k.key = ANY(:keys) "
    "AND k.as_of > :oldest"
)
_ASKED = "UPDATE kept_sets SET asked_at = :now WHERE key = ANY(:keys)"
_PUT = """INSERT INTO kept_sets (key, about, day, as_of, asked_at, stamp, changes, seconds, sets)
VALUES (:key, CAST(:about AS jsonb), :day, :as_of, :as_of, :stamp, :changes, :seconds,
CAST(:sets AS jsonb))
ON CONFLICT (key) DO UPDATE SET as_of = excluded.as_of, stamp = excluded.stamp,
changes = excluded.changes, seconds = excluded.seconds,
    sets = excluded.sets WHERE kept_sets.as_of < excluded.as_of"""
_MARKS = "SELECT k.key, k.stamp, k.changes FROM kept_sets k WHERE k.key = ANY(:keys)"
_STILL = "UPDATE kept_sets SET as_of = greatest(as_of, :as_of) WHERE key = ANY(:keys)"
#: What somebody looked at lately and is not of just now: the dear ones less often, so that no more
#: than a twentieth of the time
#: goes there.
_DUE = """SELECT k.about FROM kept_sets k
WHERE k.day = :day AND k.asked_at > :now - interval '2 hours'
AND k.as_of < :now - greatest(interval '1 minute', k.seconds * interval '20 seconds')
ORDER BY k.as_of LIMIT 30"""
#: A new day asks the same of other days.
_CARRIED = """SELECT k.about FROM kept_sets k WHERE k.day < :day
AND k.asked_at > :now - interval '12 hours'
AND NOT EXISTS (SELECT 1 FROM kept_sets o WHERE o.day = :day AND o.about = k.about) LIMIT 30"""
_OLD = "DELETE FROM kept_sets WHERE asked_at < :now - interval '2 days'"
_CHANGES = """SELECT coalesce(sum(s.n_tup_ins + s.n_tup_upd + s.n_tup_del), 0)
FROM pg_stat_all_tables s
WHERE s.relid IN (SELECT p.relid FROM unnest(CAST(:tables AS text[])) t (name)
                  CROSS JOIN LATERAL pg_partition_tree(to_regclass(t.name)) p
                  UNION SELECT to_regclass(t.name) FROM unnest(CAST(:tables AS text[])) t (name))"""


def known(
    session: orm.Session, wanted: Iterable[Wanted], oldest: dt.datetime, now: dt.datetime
) -> dict[str, Kept]:
    """The sets by key that are there and newer than `oldest`, which is of the machine's clock, as
    `now` is."""
    here, keys = place_of(session), [w.key for w in wanted]
    found: dict[str, Kept] = {}
    for key in keys:
        kept = _kept.get((here, key))
        if kept and kept.as_of > oldest:
            found[key] = kept
    missing = [key for key in keys if key not in found]
    if missing and is_large(session):
        rows = session.execute(sa.text(_KNOWN), {"keys": missing, "oldest": oldest}).all()
        for row in rows:
            sets = {
                name: BitMap.deserialize(base64.b64decode(text)) for name, text in row.sets.items()
            }
            found[row.key] = _kept.put((here, row.key), Kept(row.as_of, sets))
        if unnoted := sorted(row.key for row in rows if row.asked_at < now - _NOTED):
            with session.get_bind().engine.begin() as connection:
                connection.execute(sa.text(_ASKED), {"keys": unnoted, "now": now})
    return found


def put(session: orm.Session, wanted: Wanted, kept: Kept, changes: int, seconds: float) -> Kept:
    """Keeps what was fetched: `changes` as `changes_of` said before, `seconds` it took. Written for
    others in a large world."""
    if is_large(session):
        texts = {
            name: base64.b64encode(found.serialize()).decode() for name, found in kept.sets.items()
        }
        with session.get_bind().engine.begin() as connection:
            connection.execute(
                sa.text(_PUT),
                {
                    "key": wanted.key,
                    "about": json.dumps(wanted.about, default=str),
                    "day": wanted.day,
                    "as_of": kept.as_of,
                    "stamp": wanted.stamp,
                    "changes": changes,
                    "seconds": seconds,
                    "sets": json.dumps(texts),
                },
            )
    return _kept.put((place_of(session), wanted.key), kept)


def touched(session: orm.Session, wanted: Iterable[Wanted], now: dt.datetime) -> list[Wanted]:
    """Those of these kept sets whose answer may be another one now. The others are noted to be true
    of nearly now."""
    rows = {
        row.key: row for row in session.execute(sa.text(_MARKS), {"keys": [w.key for w in wanted]})
    }
    counted = {tables: changes_of(session, tables) for tables in {w.tables for w in wanted}}
    changed: list[Wanted] = []
    same: list[Wanted] = []
    for one in wanted:
        row = rows.get(one.key)
        still = row is not None and (row.stamp, row.changes) == (one.stamp, counted[one.tables])
        (same if still else changed).append(one)
    if same:
        with session.get_bind().engine.begin() as connection:
            connection.execute(
                sa.text(_STILL), {"keys": sorted(w.key for w in same), "as_of": now - COUNTED_AFTER}
            )
    return changed


def changes_of(session: orm.Session, tables: Iterable[str]) -> int:
    """How many rows of these tables were ever added, changed or removed, as far as the database has
    counted. 0 in a small world, where nobody asks."""
    return (
        int(session.execute(sa.text(_CHANGES), {"tables": list(tables)}).scalar_one())
        if is_large(session)
        else 0
    )


def due(session: orm.Session, day: dt.date, now: dt.datetime) -> list[Mapping[str, Any]]:
    """What should be worked out again, as what each is asked for; what nobody has asked for in two
    days goes."""
    session.execute(sa.text(_OLD), {"now": now})
    values = {"day": day, "now": now}
    rows = [*session.execute(sa.text(_DUE), values), *session.execute(sa.text(_CARRIED), values)]
    return [row.about for row in rows]


def forget() -> None:
    """Drops every set that this process holds; in a large world the database keeps them."""
    _kept.drop()


def forget_lines() -> None:
    """Drops the sets of lines in this process, but not whom each channel can reach, for benches."""
    _kept.drop(unless=lambda kept: "go" in kept.sets)
