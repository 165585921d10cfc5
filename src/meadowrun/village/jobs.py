"""Moving the demo clock on, with the village living through the time that passes."""

import datetime as dt
import json
import time
import urllib.request
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.db import ensure_months
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.outgoing.jobs import next_dispatch
from meadowrun.people.queries import NUMBER

STEPS = {"hour": dt.timedelta(hours=1), "day": dt.timedelta(days=1), "week": dt.timedelta(days=7)}
#: So long, in real seconds, sends may take before the clock goes on without waiting for them.
PATIENCE = 240.0
_AT_ONCE = 100
#: What people do of themselves is told within such a time.
_TOLD_WITHIN = dt.timedelta(hours=1)


#: One row while a send or a journey has something to do by now.
BUSY = """SELECT 1 FROM sends s
WHERE s.state = 'taking' OR s.state = 'planned' AND s.begins_at <= :now
OR s.state = 'running' AND EXISTS (
    SELECT 1 FROM deliveries d WHERE d.dispatch_id = s.dispatch_id AND d.taken_at = s.taken_at
    AND (d.outcome = 'waiting' AND d.due <= :now OR d.outcome = 'in_hand'))
    AND NOT EXISTS (SELECT 1 FROM sending_rules r WHERE r.paused_at IS NOT NULL)
UNION ALL SELECT 1 FROM heard
UNION ALL SELECT 1 FROM changed_people WHERE at IS NULL OR at <= :now
UNION ALL SELECT 1 FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
    WHERE e.due <= :now AND j.state IN ('running', 'winding_down')
UNION ALL SELECT 1 FROM dispatches o WHERE o.owner_kind = 'journey' AND o.state = 'running'
    AND EXISTS (SELECT 1 FROM deliveries d WHERE d.dispatch_id = o.id AND d.taken_at = o.taken_at
    AND (d.outcome = 'waiting' AND d.due <= :now OR d.outcome = 'in_hand'))
LIMIT 1"""


#: The next moment at which a planned send starts, or somebody who waits is due, also on a journey.
DUE_NEXT = """
SELECT min(at) FROM (
    SELECT s.begins_at AS at FROM sends s WHERE s.state = 'planned' AND s.begins_at > :now
    UNION ALL
    SELECT x.due FROM dispatches s CROSS JOIN LATERAL (
        SELECT d.due FROM deliveries d WHERE d.dispatch_id = s.id AND d.taken_at = s.taken_at
        AND d.outcome IN ('waiting', 'deferred') AND d.due > :now ORDER BY d.due LIMIT 1) x
    WHERE s.unsettled AND s.state = 'running'
    UNION ALL
    SELECT e.due FROM journey_entries e JOIN journeys j ON j.id = e.journey_id
    WHERE e.due > :now AND j.state IN ('running', 'winding_down')) y
"""


def _due_next(session: orm.Session, now: dt.datetime) -> dt.datetime | None:
    """The next moment at which something is due; None when nothing is."""
    found: dt.datetime | None = session.execute(sa.text(DUE_NEXT), {"now": now}).scalar()
    return found


def _village(path: str, data: dict[str, Any] | None = None) -> dict[str, Any]:
    request = urllib.request.Request(
        context().settings.village_url + path,
        json.dumps(data).encode() if data else None,
        {"Content-Type": "application/json"},
    )
    with urllib.request.urlopen(request, timeout=60) as answer:
        found: dict[str, Any] = json.load(answer)
        return found


@jobs.task("village.forward", "waited")
def forward(by: str) -> None:
    """Moves the clock by a step, or to the next thing that happens, stopping at everything
    that is due on the way."""
    with context().database.session() as session:
        start = clock.now(session)
        row = session.get(clock.ClockOffset, 1, with_for_update=True)
        if row is None:
            row = clock.ClockOffset(id=1, seconds=0.0)
            session.add(row)
        if row.moving_to is not None and row.moving_to > start:
            return
        target = start + STEPS[by] if by in STEPS else _next_thing(session, start)
        row.moving_to = target
        ensure_months(session, start.date(), target.date() + dt.timedelta(days=62))
    try:
        _live_until(target)
    finally:
        with context().database.session() as session:
            clock.set_ahead(session, target)
            session.execute(sa.update(clock.ClockOffset).values(moving_to=None))


def _next_thing(session: orm.Session, now: dt.datetime) -> dt.datetime:
    """What is due next or a person's next deed, whichever comes first; tomorrow when nothing is
    planned."""
    planned = _due_next(session, now)
    try:
        due = _village("/next")["due"]
    except OSError:
        due = None
    moments = [
        m
        for m in (planned, dt.datetime.fromtimestamp(due, dt.UTC) if due else None)
        if m and m > now
    ]
    return min(moments, default=now + dt.timedelta(days=1)) + dt.timedelta(seconds=1)


def _live_until(target: dt.datetime) -> None:
    while True:
        with context().database.session() as session:
            now = clock.now(session)
            stop = min(_due_next(session, now) or target, target, now + _TOLD_WITHIN)
        try:
            while _village(
                "/live", {"since": now.timestamp(), "until": stop.timestamp(), "most": _AT_ONCE}
            )["left"]:
                pass
        except OSError as problem:
            # Without its people the time passes all the same, and what is planned leaves.
            log.warning("the village does not answer", problem=str(problem))
        with context().database.session() as session:
            clock.set_ahead(session, stop)
        _do_what_is_due()
        if stop >= target:
            return


def _do_what_is_due() -> None:
    """Looks at everything that is due, until nothing is on its way any more that could go now. A
    look is not waited for, nor is whoever hands over: in a year there are thousands of moments."""
    deadline = time.monotonic() + PATIENCE
    while time.monotonic() < deadline:
        for sweep in ("sends.sweep", "journeys.sweep", "outgoing.sweep"):
            jobs.run_here(sweep)
        with context().database.session() as session:
            now = clock.now(session)
            busy = session.execute(sa.text(BUSY), {"now": now}).scalar()
            is_due = next_dispatch(session, now) is not None
        if is_due:
            # Workers take the same people in turn, a batch each.
            jobs.run_here("outgoing.deliver")
        elif not busy:
            return
        time.sleep(0.02)


#: Newcomers told to the village at once.
_NEWCOMERS = 500
_NEW = f"""SELECT c.id, coalesce(c.email_key, ''), coalesce({NUMBER}, '') FROM contacts c
WHERE c.id > :known AND (c.email_key IS NOT NULL OR c.phone IS NOT NULL) ORDER BY c.id
LIMIT {_NEWCOMERS}"""


@jobs.task("village.newcomers", "upkeep", every="* * * * * */20")
def tell_newcomers() -> None:
    """In the demo, the village takes in whoever was imported or added since: they get texts and
    in-app messages like the others."""
    if not context().settings.village_url:
        return
    people: list[tuple[int, str, str]] = []
    try:
        while True:
            known = _village("/newcomers", {"people": people})["known"]
            with context().database.session() as session:
                people = [
                    (row[0], row[1], row[2])
                    for row in session.execute(sa.text(_NEW), {"known": known})
                ]
            if not people:
                return
    except OSError as problem:
        log.warning("the village does not answer", problem=str(problem))
