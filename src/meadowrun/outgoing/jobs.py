"""The background jobs of what leaves: batches of who is due, what others left under way, and a look
at what nobody works on.

Workers ask what is due, not what was queued: a job names no dispatch. `claims` says how a worker
holds some people, `batch` how they leave, `settling` what becomes of those whose worker died.
"""

import datetime as dt
import json
import zoneinfo
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing import (
    best_hours,
    calendars,
    settling,
    speeds,
    stopping,
    troubles,
    waiting,
)
from meadowrun.outgoing.batch import BatchWork
from meadowrun.outgoing.claims import BATCH, FREE, LOCKS, NOT_PAUSED, Claim, ClaimLost, lock_of
from meadowrun.outgoing.models import Batch, Dispatch

#: The most batches that are asked for at once: more are as soon as these are done.
MOST_ASKED = 8

#: The dispatch whose turn it is: of the first ones by priority that whose people were last claimed
#: longest ago.
NEXT = f"""
SELECT s.id FROM dispatches s CROSS JOIN LATERAL (
    SELECT 1 FROM deliveries d WHERE d.dispatch_id = s.id AND d.taken_at = s.taken_at
    AND {FREE} ORDER BY d.due LIMIT 1) x
WHERE s.unsettled AND s.state = 'running' AND {NOT_PAUSED}
ORDER BY s.priority DESC, s.claimed_at NULLS FIRST, s.id LIMIT 1
"""
#: The months in which those can be are known before: the others are not even planned for.
_SPAN = "d.taken_at >= :oldest"
OLDEST = "SELECT min(taken_at) FROM dispatches WHERE unsettled"
#: A look at every dispatch of which something may still happen, all at once, since there can be
#: hundreds that wait: number, whether something is left under way that can be settled now, how many
#: are due (counted up to :most), whether it stops by itself, and whether it seems to be done.
LOOK = f"""
WITH looked AS MATERIALIZED (
    SELECT s.id, s.taken_at, s.sealed, s.state = 'running' AND s.stop_percent IS NOT NULL AS stops,
        EXISTS (SELECT 1 FROM deliveries d WHERE d.dispatch_id = s.id AND d.taken_at = s.taken_at
            AND {_SPAN}
            AND {settling.UNSETTLED.format(asks="s.channel = ANY(:asking)")}) AS is_left,
        CASE WHEN s.state = 'running' THEN (SELECT count(*) FROM (
            SELECT 1 FROM deliveries d WHERE d.dispatch_id = s.id AND d.taken_at = s.taken_at
            AND {_SPAN} AND {FREE} AND {NOT_PAUSED} ORDER BY d.due LIMIT :most) x) ELSE 0 END AS due
    FROM dispatches s WHERE s.unsettled)
SELECT l.id, l.is_left, l.due, l.stops, l.sealed AND l.due = 0 AND NOT EXISTS (
    SELECT 1 FROM deliveries d WHERE d.dispatch_id = l.id AND d.taken_at = l.taken_at AND {_SPAN}
    AND (d.outcome IN ('waiting', 'deferred', 'in_hand')
    OR d.outcome = 'in_doubt' AND d.due IS NOT NULL)) AS seems_done
FROM looked l ORDER BY l.id
"""
IS_FREE = "SELECT pg_try_advisory_xact_lock(:locks, :lock)"
QUEUED = (
    "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = :name "
    "AND args @> CAST(:args AS jsonb)"
)


@jobs.task("outgoing.deliver", "sending")
def deliver() -> None:
    """Hands over one batch of whoever is due longest by their turn. Safe to run any number of
    times, anywhere."""
    database = context().database
    with database.session() as session:
        dispatch_id = next_dispatch(session, clock.now(session))
        if dispatch_id is None:
            return
        session.execute(
            sa.update(Dispatch)
            .where(Dispatch.id == dispatch_id)
            .values(claimed_at=sa.func.clock_timestamp())
        )
    try:
        with Claim.begin_new(database, dispatch_id, "deliver") as claim:
            goes_on = _hand_over(claim)
    except ClaimLost:
        # Whoever has the batch's people now goes on with them; else the sweep frees them.
        return
    if not goes_on:
        # Others have who is due, or nobody takes anything: the sweep asks again in a few seconds.
        return
    with database.session() as session:
        # Whether anybody is due is asked by whoever comes.
        ask_for(session, 1)


def next_dispatch(session: orm.Session, now: dt.datetime) -> int | None:
    """The dispatch of which the next batch is; None when nobody is due."""
    return session.execute(sa.text(NEXT), {"now": now}).scalar()


@jobs.task("outgoing.again", "sending")
def again(batch: int) -> None:
    """Goes on with a batch that failed as a whole."""
    try:
        with Claim.of_failed(context().database, batch) as claim:
            if claim is None:
                return
            with claim.session() as session:
                task = session.get_one(Batch, batch).task
            (_hand_over if task == "deliver" else _settle)(claim)
    except ClaimLost:
        return


@jobs.task("outgoing.settle", "sending")
def settle(dispatch_id: int) -> None:
    """Settles what others left under way of a dispatch."""
    try:
        with Claim.begin_new(context().database, dispatch_id, "settle") as claim:
            _settle(claim)
    except ClaimLost:
        return


def _hand_over(claim: Claim) -> bool:
    try:
        return BatchWork(claim, context().settings).run()
    except ClaimLost:
        raise
    except Exception as problem:
        log.exception("batch failed", dispatch=claim.key["dispatch"])
        claim.hold()
        claim.failed = troubles.note(claim.database, claim.batch, problem)
        return True


def _settle(claim: Claim) -> None:
    try:
        settling.settle(claim, context().settings)
        with claim.session() as session:
            if next_dispatch(session, clock.now(session)) is not None:
                ask_for(session, 1)
    except ClaimLost:
        raise
    except Exception as problem:
        log.exception("settling failed", dispatch=claim.key["dispatch"])
        claim.failed = troubles.note(claim.database, claim.batch, problem)


def ask_for(session: orm.Session, batches: int) -> None:
    """Asks for workers to hand batches over, as far as not enough are asked for yet."""
    asked = session.execute(
        sa.text(QUEUED), {"name": "outgoing.deliver", "args": "{}"}
    ).scalar_one()
    for _ in range(min(batches, MOST_ASKED - asked)):
        jobs.enqueue(session, "outgoing.deliver")


@jobs.task("outgoing.sweep", "sweeps", every="* * * * * */5")
def sweep() -> None:
    """Everything due by now: who may go, what is to be settled, batches whose worker died or that
    are tried again."""
    with context().database.session() as session:
        now = clock.now(session)
        _forget_dead(session)
        for batch in troubles.due(session, now):
            _once(session, "outgoing.again", batch=batch)
        asking = [key for key, one in CHANNELS.items() if one.can_be_asked(context().settings)]
        values = {
            "now": now,
            "most": BATCH * MOST_ASKED,
            "asking": asking,
            "oldest": session.execute(sa.text(OLDEST)).scalar(),
        }
        due = 0
        for found in session.execute(sa.text(LOOK), values).all():
            _see_to(session, found, now)
            due += found.due
        ask_for(session, (due + BATCH - 1) // BATCH)


@jobs.task("outgoing.turns", "sweeps")
def turns(reason: str) -> None:
    """Plans turns anew after somebody was stopped, or has those judged again who wait for a reason
    that has changed."""
    with context().database.session() as session:
        speeds.forget_turns(session)
    if not reason:
        return
    with context().database.session() as session:
        speeds.judge_again(session, clock.now(session), reason)
        jobs.enqueue(session, "outgoing.sweep")


def _forget_dead(session: orm.Session) -> None:
    """Forgets the batches whose lock is free: their worker died, and their people are free for the
    next. Those that failed stay."""
    for batch in session.scalars(sa.select(Batch.id).where(Batch.times == 0)).all():
        # The lock is let go with this transaction: it only tells whether a worker is alive behind
        # the batch.
        if session.execute(sa.text(IS_FREE), {"locks": LOCKS, "lock": lock_of(batch)}).scalar():
            session.execute(sa.delete(Batch).where(Batch.id == batch, Batch.times == 0))


def _see_to(session: orm.Session, found: Any, now: dt.datetime) -> None:
    """Has what was left under way of a dispatch settled, stops it where too much came back, and
    finishes it when nobody is open; `found` is a row of LOOK."""
    if found.is_left and not troubles.keeps_from_settling(session, found.id):
        _once(session, "outgoing.settle", dispatch_id=found.id)
    if found.stops or found.seems_done:
        dispatch = session.get_one(Dispatch, found.id)
        stopping.stop_if_bad(session, dispatch, now)
        if found.seems_done:
            settling.finish_if_done(session, dispatch.id, dispatch.taken_at, now)


def _once(session: orm.Session, name: str, **arguments: int) -> None:
    """Enqueues a job unless the same one waits already."""
    asked = session.execute(
        sa.text(QUEUED), {"name": name, "args": json.dumps(arguments)}
    ).scalar_one()
    if not asked:
        jobs.enqueue(session, name, **arguments)


@jobs.task("outgoing.holidays", "upkeep", every="17 3 * * * 0")
def renew_holidays() -> None:
    """Every night the holidays of countries reach as far ahead as they should."""
    with context().database.session() as session:
        calendars.renew(session, clock.now(session))


@jobs.task("outgoing.best_hours", "upkeep", every="*/15 * * * * 45")
def learn_hours() -> None:
    """Once a day everybody's best hours are learnt anew."""
    zone = zoneinfo.ZoneInfo(context().settings.timezone)
    with context().database.session() as session:
        now, last = clock.now(session), best_hours.learnt(session)
        if last is None or now - last.learnt_at >= dt.timedelta(days=1):
            best_hours.learn(session, now, zone)


@jobs.task("outgoing.tell", "upkeep", every="* * * * * */20")
def tell() -> None:
    """Writes down whom to tell by email, whoever wishes it, what waits for them."""
    with context().database.session() as session:
        waiting.tell(session, clock.now(session), troubles.MOST)
