"""The background jobs of sends: the snapshot of an audience, and its chunks one by one.

Every delivery is a row under one outcome. `claims` says how a worker holds some of them, `handing` how they leave,
`settling` what becomes of those whose worker died.
"""

import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.db import ensure_months
from meadowrun.base.errors import Invalid
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.core.guardrails.limits import stopped_by
from meadowrun.people.queries import dictionary
from meadowrun.sends import troubles
from meadowrun.sends.claims import Claim, ClaimLost
from meadowrun.sends.handing import Chunk
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_of, channel_of, picked_sql
from meadowrun.sends.settling import finish_if_done

#: People of a chunk: what a worker claims at once.
CHUNK = 1000


@jobs.task("sends.take", "waited")
def take(send_id: int) -> None:
    """The snapshot: settles who is in the audience, once, in one transaction, and seals it."""
    with context().database.session() as session:
        send = session.get(Send, send_id, with_for_update=True)
        if send is None or send.state != "taking" or send.sealed:
            return
        now = clock.now(session)
        settings = context().settings
        try:
            who = audience_of(session, send, dictionary(session), now, zoneinfo.ZoneInfo(settings.timezone))
        except Invalid as problem:
            send.state, send.problem = "draft", str(problem)
            return
        people, values = picked_sql(send, who, channel_of(session, send))
        if send.ceiling is not None:
            going = session.execute(sa.text(f"SELECT count(place) FROM ({people}) p"), values).scalar_one()
            if problem := stopped_by(going, send.ceiling, send.ceiling_rule):
                send.state, send.problem = "draft", f"Nothing went. {problem}"
                return
        taken = now.replace(microsecond=0)
        ensure_months(session, taken.date(), taken.date())
        session.execute(sa.text(
            "INSERT INTO deliveries (contact_id, send_id, taken_at, chunk, outcome, repeated, held) "
            "SELECT id, :send, :taken, (row_number() OVER (ORDER BY id) - 1) / :chunk, "
            f"CASE WHEN place > :most THEN 'over_ceiling' ELSE 'waiting' END, repeated_address, held FROM ({people}) x"),
            {**values, "send": send.id, "taken": taken, "chunk": CHUNK, "most": send.ceiling})
        size = session.execute(sa.text("SELECT count(*) FROM deliveries WHERE send_id = :id"),
                               {"id": send.id}).scalar_one()
        if size > 2000:
            # Without fresh statistics the claims of a large send are planned as if it were small.
            session.execute(sa.text("ANALYZE deliveries"))
        send.taken_at, send.audience_size, send.sealed, send.state = taken, size, True, "running"
        send.open, send.moved_at = True, sa.func.clock_timestamp()
        session.flush()
        for chunk in range((size + CHUNK - 1) // CHUNK):
            enqueue_chunk(session, send, chunk, chunk)
        if not size:
            finish_if_done(session, send.id, send.taken_at, now)


def enqueue_chunk(session: orm.Session, send: Send, chunk: int, place: int = 0) -> None:
    """Puts a chunk into the queue, `place` chunks behind the one whose turn it is: sends that go out together take turns.

    What is about something of the people themselves goes before the rest.
    """
    turn = jobs.turn_of(session, "sends.chunk")
    service = jobs.BEFORE_OTHERS if send.consent_rule == "service" else 0
    jobs.enqueue(session, "sends.chunk", priority=service + turn - place, send_id=send.id, chunk=chunk)


@jobs.task("sends.chunk", "sending")
def hand_over_chunk(send_id: int, chunk: int) -> None:
    """Hands one chunk of a send over, as far as it may go now. Safe to run any number of times, anywhere."""
    database = context().database
    with Claim.of(database, send_id, chunk) as claim:
        if claim is None:
            return
        try:
            work = Chunk(claim, context().settings)
            work.run()
        except ClaimLost:
            # Whoever has the chunk now goes on with it; else the sweep finds it.
            return
        except Exception as problem:
            log.exception("chunk failed", send=send_id, chunk=chunk)
            troubles.note(database, send_id, chunk, problem)
            return
        with claim.session() as session:
            troubles.over(session, send_id, chunk)
            if work.more:
                enqueue_chunk(session, session.get_one(Send, send_id), chunk)
