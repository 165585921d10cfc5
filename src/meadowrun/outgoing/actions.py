"""Verbs of dispatches: opened, filled, sealed, paused, stopped; and what a person says about
doubts.

Whoever owns a dispatch calls these with the dispatch locked first (`settling.locked`), then what is
theirs.
"""

import datetime as dt
import zoneinfo
from collections.abc import Collection, Mapping, Sequence
from typing import Any

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import jobs
from meadowrun.base.db import ensure_months, rows_changed
from meadowrun.outgoing import speeds
from meadowrun.outgoing.best_hours import CHOSEN, choosing
from meadowrun.outgoing.claims import BATCH
from meadowrun.outgoing.jobs import ask_for
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.settling import set_state
from meadowrun.outgoing.timing import Timing

#: Deliveries to the people of a query of id, outcome, repeated and control; all are due at once.
PUT = """
INSERT INTO deliveries (contact_id, dispatch_id, taken_at, due, outcome, repeated, control)
SELECT id, :dispatch, :taken, :taken, outcome, repeated, control FROM ({people}) x ORDER BY id
"""
#: The same where people of other zones or portions are due at other moments: whoever is judged
#: anyway (a repeated address, the control group) is at once, and is in no portion. Portions are
#: drawn by chance.
PUT_IN_TIME = """
WITH x AS (
    SELECT *, outcome = 'waiting' AND NOT repeated AND NOT control AS waits FROM ({people}) p),
drawn AS (
    SELECT x.*, CASE WHEN waits THEN (row_number() OVER (PARTITION BY waits
    ORDER BY hashint8extended(id, :dispatch)) - 1) / CAST(:size AS bigint) END AS portion FROM x),
timed AS (
    SELECT w.*, c.timezone, {hour} AS hour FROM drawn w JOIN contacts c ON c.id = w.id {hours_of})
INSERT INTO deliveries (contact_id, dispatch_id, taken_at, due, outcome, repeated, control, portion,
    hour, stood_on)
SELECT y.id, :dispatch, :taken, CASE WHEN z.due IS NULL THEN CAST(:taken AS timestamptz)
    ELSE least(z.due, CAST(:last AS timestamptz)) END, y.outcome, repeated, control, y.portion,
    y.hour,
    z.stood_on
FROM timed y LEFT JOIN jsonb_to_recordset(CAST(:dues AS jsonb))
    AS z(zone text, portion bigint, hour int, due timestamptz, stood_on jsonb)
    ON z.zone = coalesce(y.timezone, '') AND z.portion = coalesce(y.portion, 0)
    AND z.hour IS NOT DISTINCT FROM y.hour AND y.waits
ORDER BY y.id
"""
#: From so many people on, claims are planned badly without fresh statistics.
_MANY = 2000


def open_dispatch(session: orm.Session, now: dt.datetime, dispatch: Dispatch) -> Dispatch:
    """Stores a dispatch, running and without anybody yet. Its moment is a whole second."""
    dispatch.taken_at = now.replace(microsecond=0)
    dispatch.state, dispatch.unsettled = "running", True
    dispatch.priority = 1 if dispatch.consent_rule == "service" else 0
    ensure_months(session, dispatch.taken_at.date(), dispatch.taken_at.date())
    session.add(dispatch)
    session.flush()
    return dispatch


def put(
    session: orm.Session,
    dispatch: Dispatch,
    people: str,
    values: Mapping[str, Any],
    zone: zoneinfo.ZoneInfo,
    size: int | None = None,
) -> int:
    """Adds deliveries to the people of a query with columns id, outcome, repeated and control. Says
    how many.

    Args:
        zone: that of people without one.
        size: how many of them go together; None: all.
    """
    given = {**values, "dispatch": dispatch.id, "taken": dispatch.taken_at}
    timing = Timing.of(session, dispatch, zone)
    portions = 1
    if size is not None:
        counted = sa.text(f"SELECT count(*) FROM ({people}) p")
        portions = max(1, -(-session.execute(counted, given).scalar_one() // size))
    dues = [] if timing.at_once else timing.dues(session, portions)
    asked = PUT.format(people=people)
    if dues or size is not None:
        given |= {
            "dues": orjson.dumps(dues).decode(),
            "size": size,
            "last": dispatch.last_moment,
        }
        hour, hours_of = "NULL::int", ""
        if timing.by_hour:
            given |= choosing(session, timing.open_hours())
            hour = f"CASE WHEN w.waits THEN {CHOSEN} END"
            hours_of = "LEFT JOIN best_hours b ON b.contact_id = w.id"
        asked = PUT_IN_TIME.format(people=people, hour=hour, hours_of=hours_of)
    done = session.execute(sa.text(asked), given)
    found: int = rows_changed(done)
    if found > _MANY:
        session.execute(sa.text("ANALYZE deliveries"))
    dispatch.moved_at = sa.func.clock_timestamp()
    ask_for(session, (found + BATCH - 1) // BATCH)
    return found


_ANY_ZONE = zoneinfo.ZoneInfo("UTC")
#: A delivery to each of some contacts, beside those that they have of the dispatch already; at an
#: hour that is chosen for each.
PUT_SOME = """
INSERT INTO deliveries (contact_id, dispatch_id, taken_at, occurrence, due, outcome, given, control,
    hour)
SELECT v.contact, :dispatch, :taken, (
    SELECT coalesce(max(d.occurrence) + 1, 0) FROM deliveries d WHERE d.contact_id = v.contact
    AND d.dispatch_id = :dispatch AND d.taken_at = :taken), :now, 'waiting', v.given, v.control,
    {hour}
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(contact bigint, given jsonb, control boolean)
{hours_of}
RETURNING contact_id, number
"""


def put_some(
    session: orm.Session,
    dispatch: Dispatch,
    people: Mapping[int, Mapping[str, Any] | None],
    now: dt.datetime,
    control: Collection[int] = (),
) -> dict[int, int]:
    """Adds a delivery to each of some contacts, who come by and by, with the details of the event
    because of which they get it: the number of the delivery, by contact. Those of the control group
    get nothing, so that the others can be compared with them."""
    given = [
        {"contact": contact, "given": details, "control": contact in control}
        for contact, details in people.items()
    ]
    values: dict[str, Any] = {
        "dispatch": dispatch.id,
        "taken": dispatch.taken_at,
        "rows": orjson.dumps(given).decode(),
        "now": now,
    }
    hour, hours_of = "NULL", ""
    if dispatch.best_hour:
        # The zone is that of people without one: which hours are open does not go by it.
        values |= choosing(session, Timing.of(session, dispatch, _ANY_ZONE).open_hours())
        hour, hours_of = CHOSEN, "LEFT JOIN best_hours b ON b.contact_id = v.contact"
    rows = session.execute(sa.text(PUT_SOME.format(hour=hour, hours_of=hours_of)), values)
    found = {row.contact_id: row.number for row in rows}
    ask_for(session, (len(found) + BATCH - 1) // BATCH)
    return found


#: Those still waiting for too long, who get nothing any more: their numbers.
_TOO_LONG = """
UPDATE deliveries d SET outcome = 'late', stood_on = '{"because": "last_moment"}'
WHERE d.number = ANY(:numbers) AND d.dispatch_id = :dispatch AND d.taken_at = :taken
    AND d.outcome IN ('waiting', 'deferred')
    AND (d.claim IS NULL OR d.claim NOT IN (SELECT b.claim FROM batches b))
RETURNING d.number
"""


def give_up(session: orm.Session, dispatch: Dispatch, numbers: Sequence[int]) -> set[int]:
    """Ends deliveries of some numbers that still wait and are in nobody's hands: those that were
    ended."""
    values = {"numbers": list(numbers), "dispatch": dispatch.id, "taken": dispatch.taken_at}
    return set(session.scalars(sa.text(_TOO_LONG), values))


def seal(session: orm.Session, dispatch: Dispatch, size: int) -> None:
    """Settles who is in the audience for good: the database refuses any other size."""
    dispatch.size, dispatch.sealed = size, True
    session.flush()


def pause(session: orm.Session, now: dt.datetime, dispatch: Dispatch) -> None:
    """Nobody new is handed over; what is being handed over finishes."""
    set_state(session, dispatch, "paused", now)


def resume(session: orm.Session, now: dt.datetime, dispatch: Dispatch) -> None:
    set_state(session, dispatch, "running", now)
    jobs.enqueue(session, "outgoing.sweep")


STOP = """
UPDATE deliveries SET outcome = 'stopped' WHERE dispatch_id = :id AND taken_at = :taken
AND outcome IN ('waiting', 'deferred')
"""


def stop(session: orm.Session, now: dt.datetime, dispatch: Dispatch) -> None:
    """For good: those still to go are counted as stopped."""
    set_state(session, dispatch, "stopped", now)
    if speeds.are_planned(session):
        jobs.enqueue(session, "outgoing.turns", reason="")
    session.execute(sa.text(STOP), {"id": dispatch.id, "taken": dispatch.taken_at})


#: Settles people in doubt: all of a dispatch, or some. Whoever goes once more is claimed by nobody.
SETTLE_DOUBTS = """
UPDATE deliveries SET outcome = :outcome, note = :note, due = CASE WHEN :outcome = 'waiting'
THEN :now ELSE NULL END,
    claim = CASE WHEN :outcome = 'waiting' THEN NULL ELSE claim END
WHERE dispatch_id = :id AND taken_at = :taken AND outcome = 'in_doubt'
    AND (CAST(:contacts AS bigint[]) IS NULL OR contact_id = ANY(:contacts))
"""


def settle_doubts(
    session: orm.Session,
    now: dt.datetime,
    dispatch: Dispatch,
    contacts: Sequence[int] | None,
    arrived: bool,
    who: str,
) -> int:
    """Somebody says what became of messages whose answer was lost, of some people or (None) of all:
    they count as delivered, or go once more. Of a stopped dispatch nothing goes any more. Says of
    how many."""
    again = "stopped" if dispatch.state == "stopped" else "waiting"
    if not arrived and dispatch.state == "done":
        set_state(session, dispatch, "running", now)
    done = session.execute(
        sa.text(SETTLE_DOUBTS),
        {
            "outcome": "delivered" if arrived else again,
            "note": f"settled by {who}",
            "id": dispatch.id,
            "taken": dispatch.taken_at,
            "now": now,
            "contacts": None if contacts is None else list(contacts),
        },
    )
    jobs.enqueue(session, "outgoing.sweep")
    return rows_changed(done)
