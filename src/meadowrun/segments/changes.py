"""Of whom something changed that conditions look at: noted by the database for what is watched,
until it is taken. Who asks after that need not ask about everybody again."""

import datetime as dt
from collections.abc import Collection, Mapping, Sequence

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.core.audience.turning import kinds_in
from meadowrun.people.moment import Moment

#: Stands for “it may be anybody”.
ANYBODY = 0
#: What was noted, which is noted no longer then.
_TAKE = """
DELETE FROM changed_people WHERE at IS NULL OR at <= :now RETURNING source, contact_id
"""
#: Notes to whom an event of some kinds will happen, told by a clock that runs ahead of ours.
_AHEAD = """
INSERT INTO changed_people (source, contact_id, at)
SELECT 'event:' || e.kind_id, e.contact_id, e.at FROM events e
WHERE e.kind_id = ANY(CAST(:kinds AS smallint[])) AND e.at > :now
"""
#: What is to be watched from now on. What was begun to be watched before is relied on once all have
#: ended who began before this moment: only then do all note what they change.
_BEGUN = "UPDATE watched_sources SET since = clock_timestamp() WHERE since IS NULL"
_WATCH = """
INSERT INTO watched_sources (source)
SELECT unnest(CAST(:sources AS text[])) ON CONFLICT DO NOTHING
"""
_NO_LONGER = "DELETE FROM watched_sources WHERE source <> ALL(CAST(:sources AS text[]))"
#: What can be relied on.
_RELIED_ON = """
SELECT w.source FROM watched_sources w
WHERE w.since IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM pg_stat_activity a
    WHERE a.datname = current_database() AND a.pid <> pg_backend_pid()
    -- The database's own upkeep changes nothing about anybody.
    AND a.backend_type = 'client backend' AND a.xact_start <= w.since)
"""
#: To whom an event of a kind happened that became so many days old between two moments.
_AFTER = """
SELECT DISTINCT e.contact_id FROM events e
WHERE e.kind_id = :kind
AND e.at > CAST(:since AS timestamptz) - make_interval(hours => 24 * :days)
AND e.at <= CAST(:now AS timestamptz) - make_interval(hours => 24 * :days)
"""


def take(session: orm.Session, now: dt.datetime) -> dict[str, BitMap]:
    """Of whom something changed since it was taken the last time, by what it is stored in
    (core/audience/turning.py); ANYBODY among them where so many did that nobody noted them."""
    found: dict[str, BitMap] = {}
    for source, contact in session.execute(sa.text(_TAKE), {"now": now}):
        found.setdefault(source, BitMap()).add(contact)
    return found


def watch(session: orm.Session, sources: Sequence[str]) -> None:
    """Has changes of these sources be noted, and of no others."""
    session.execute(sa.text(_BEGUN))
    values = {"sources": list(sources)}
    session.execute(sa.text(_NO_LONGER), values)
    session.execute(sa.text(_WATCH), values)


def relied_on(session: orm.Session) -> frozenset[str]:
    """The sources of which every change is noted by now."""
    return frozenset(session.scalars(sa.text(_RELIED_ON)))


def of(changed: Mapping[str, BitMap], sources: Collection[str]) -> BitMap | None:
    """Of whom something changed in one of some sources; None where it may be anybody."""
    found = BitMap()
    for source in sources:
        found |= changed.get(source, BitMap())
    return None if ANYBODY in found else found


def note_ahead(moment: Moment, sources: Collection[str]) -> None:
    """Notes whom events that lie ahead will change, once they are asked about for the first time:
    what comes in later is noted as it does."""
    kinds = kinds_in(sources)
    if kinds:
        moment.session.execute(sa.text(_AHEAD), {"kinds": kinds, "now": moment.now})


def some_time_after(moment: Moment, kind: int, days: int, since: dt.datetime) -> BitMap:
    """To whom an event of a kind happened that became so many days (of 24 hours) old since a
    moment."""
    values = {"kind": kind, "days": days, "since": since, "now": moment.now}
    return BitMap(moment.session.scalars(sa.text(_AFTER), values))
