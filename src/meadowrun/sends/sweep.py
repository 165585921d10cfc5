"""What keeps sends going: planned ones whose moment has come, chunks that nobody works on, ends that two workers missed."""

import datetime as dt
import itertools

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.sends import troubles, waiting
from meadowrun.sends.jobs import enqueue_chunk
from meadowrun.sends.models import Send
from meadowrun.sends.queries import can_be_asked, channel_of
from meadowrun.sends.settling import finish_if_done

#: The chunks of a send that have work due. Of one that does not run, only what is under way is still to be settled.
DUE = """
SELECT DISTINCT chunk FROM deliveries WHERE send_id = :id AND taken_at = :at AND (outcome = 'in_hand'
    OR outcome = 'in_doubt' AND (not_before <= :now OR not_before IS NULL AND :ask)
    OR :runs AND (outcome = 'waiting' OR outcome = 'deferred' AND not_before <= :now))
"""


@jobs.task("sends.sweep", "sweeps", every="* * * * * */5")
def sweep() -> None:
    """Everything due by now: planned sends whose moment has come, chunks that nobody works on."""
    with context().database.session() as session:
        now = clock.now(session)
        for send in session.scalars(sa.select(Send).where(Send.state == "planned", Send.leaves_at <= now)
                                    .with_for_update(skip_locked=True)):
            send.state = "taking"
            jobs.enqueue(session, "sends.take", send_id=send.id)
        stuck = session.scalars(sa.select(Send).where(Send.state == "taking", Send.sealed.is_(False)))
        for send in stuck:
            if not _queued(session, "sends.take", send.id):
                jobs.enqueue(session, "sends.take", send_id=send.id)
        for send in session.scalars(sa.select(Send).where(Send.open).order_by(Send.id)):
            _revive(session, send, now)


def _revive(session: orm.Session, send: Send, now: dt.datetime) -> None:
    """Enqueues the chunks of a send that have work due and neither a waiting job nor a worker."""
    chunks = session.execute(sa.text(DUE), {"id": send.id, "at": send.taken_at, "now": now, "runs": send.state == "running",
                                            "ask": can_be_asked(context().settings, channel_of(session, send))}).scalars().all()
    queued = _queued(session, "sends.chunk", send.id) | troubles.waiting(session, send.id, now)
    for chunk in chunks:
        # The lock is let go with this transaction: it only tells whether a worker is alive behind the chunk.
        if chunk not in queued and session.execute(
                sa.text("SELECT pg_try_advisory_xact_lock(:s, :c)"), {"s": send.id, "c": chunk}).scalar():
            enqueue_chunk(session, send, chunk)
    if not chunks:
        finish_if_done(session, send.id, send.taken_at, now)


def _queued(session: orm.Session, name: str, send_id: int) -> set[int]:
    rows = session.execute(sa.text(
        "SELECT coalesce((args->>'chunk')::int, 0) FROM procrastinate_jobs WHERE status = 'todo' AND task_name = :name "
        "AND (args->>'send_id')::bigint = :id"), {"name": name, "id": send_id})
    return set(itertools.chain.from_iterable(rows))


@jobs.task("sends.tell", "upkeep", every="* * * * * */20")
def tell() -> None:
    """Writes down whom to tell by email, whoever wishes it, what waits because of a send."""
    with context().database.session() as session:
        waiting.tell(session, clock.now(session), troubles.MOST)
