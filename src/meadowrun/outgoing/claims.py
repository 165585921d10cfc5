"""A batch of deliveries in the hands of one worker: a lock, a token on the rows, and what is
written of them.

The lock is PostgreSQL's advisory lock: it tells at once when a worker has died. It can also be lost
while the worker goes on (its connection is ended), so nothing stands on the lock alone: every step
works on rows that bear the batch's token, and on the connection that holds the lock. A batch whose
lock is free is forgotten by the sweep, and what bears the token of no batch is free for the next,
who writes a token of their own; the one before then finds no rows of theirs, and stops.
"""

import contextlib
import datetime as dt
import time
import uuid
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.db import Database
from meadowrun.base.logs import log
from meadowrun.core.guardrails.verdict import Verdict
from meadowrun.gateways.handing import Handed
from meadowrun.outgoing.models import Dispatch

TRY_AGAIN = dt.timedelta(minutes=15)
#: When a gateway that may be asked is first asked about a doubt.
ASK_AFTER = dt.timedelta(seconds=15)
#: The most people of a batch.
BATCH = 1000
#: Seconds for which what became of people is tried to be written after the connection was lost.
_WRITES_FOR = 60.0
#: The first number of the locks of batches; the second follows from the batch's own.
LOCKS = 7203414
_MOST_LOCKS = 2_000_000_000

BEGUN = (
    "INSERT INTO batches (claim, dispatch_id, task) VALUES (:claim, :dispatch, :task) RETURNING id"
)
#: A batch that failed gets another token; what was under way with the one before is settled by
#: itself.
RENEWED = """
UPDATE batches b SET claim = :claim FROM batches f WHERE b.id = :batch AND f.id = b.id
RETURNING b.dispatch_id, f.claim AS former
"""
LOCKED = "SELECT pg_try_advisory_lock(:locks, :lock)"
#: What may be claimed: due, and of no batch.
FREE = """d.outcome IN ('waiting', 'deferred') AND d.due <= :now
    AND (d.claim IS NULL OR d.claim NOT IN (SELECT b.claim FROM batches b))"""

#: Claims who is due longest: contact, number, tries, repeated, control, portion, hour, given. Of
#: several to one contact the first, and only contacts whom no other worker judges at this moment:
#: they are locked until the verdict on them is written. Who is merely claimed stays as they are,
#: unless the gateway takes the whole batch at once.
CLAIM = f"""
WITH due AS MATERIALIZED (
    SELECT d.contact_id, d.occurrence FROM deliveries d WHERE d.dispatch_id = :dispatch
    AND d.taken_at = :taken AND {FREE}
    ORDER BY d.due LIMIT :most FOR UPDATE SKIP LOCKED),
alone AS MATERIALIZED (
    SELECT c.id FROM contacts c WHERE c.id IN (SELECT contact_id
    FROM due) FOR NO KEY UPDATE SKIP LOCKED),
chosen AS (
    SELECT DISTINCT ON (contact_id) contact_id, occurrence FROM due
    WHERE contact_id IN (SELECT id FROM alone) OR NOT EXISTS (SELECT 1 FROM contacts c
    WHERE c.id = due.contact_id)
    ORDER BY contact_id, occurrence)
UPDATE deliveries d SET claim = :claim, claimed_at = clock_timestamp(), at = CASE WHEN :whole
THEN :now ELSE d.at END,
    outcome = CASE WHEN :whole THEN 'in_hand' ELSE d.outcome END
FROM chosen x WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken
AND d.contact_id = x.contact_id AND d.occurrence = x.occurrence
RETURNING d.contact_id, d.number, d.tries, d.repeated, d.control, d.portion, d.hour,
    d.given
"""

#: The same for a batch that failed before: it keeps its people, under a new token.
CLAIM_AGAIN = """
UPDATE deliveries d SET claim = :claim, claimed_at = clock_timestamp(), at = CASE WHEN :whole
THEN :now ELSE d.at END,
    outcome = CASE WHEN :whole THEN 'in_hand' ELSE d.outcome END
WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken AND d.claim = :former
AND d.outcome IN ('waiting', 'deferred') AND d.due <= :now
RETURNING d.contact_id, d.number, d.tries, d.repeated, d.control, d.portion, d.hour,
    d.given
"""

#: Whether a dispatch `s` may leave: not while all marketing is paused.
NOT_PAUSED = """NOT EXISTS (SELECT 1 FROM sending_rules r WHERE r.paused_at IS NOT NULL
    AND (r.pauses_service OR s.consent_rule <> 'service'))"""

#: Notes some people of the batch as being handed over, while the dispatch runs: their contacts.
BEGIN = f"""
UPDATE deliveries d SET outcome = 'in_hand', at = :now, note = NULL,
claimed_at = clock_timestamp(), filled = v.filled, address = v.address
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, filled jsonb, address text),
dispatches s
WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken AND d.contact_id = v.id AND d.claim = :claim
    AND d.outcome IN ('waiting', 'deferred') AND s.id = d.dispatch_id AND s.state = 'running'
    AND {NOT_PAUSED}
RETURNING d.contact_id
"""

#: The last moment of a dispatch `s`, while it lies ahead, or if nothing is sent after it.
_LAST = "CASE WHEN s.at_last = 'drop' OR s.last_moment > :now THEN s.last_moment END"
#: Writes what became of people of the batch: their contacts. Nobody waits beyond the last moment:
#: they are judged then. Who would still have to go is not written to any more
#: when the dispatch was stopped meanwhile.
WRITE = f"""
UPDATE deliveries d SET
    outcome = CASE WHEN v.outcome IN ('waiting', 'deferred') AND s.state = 'stopped'
    THEN 'stopped' ELSE v.outcome END,
    at = CASE WHEN v.outcome IN ('waiting', 'deferred') THEN d.at ELSE coalesce(d.at, :now) END,
    note = nullif(v.note, ''), tries = d.tries + (v.outcome = 'deferred'
    OR v.stood_on->>'because' IS NOT DISTINCT FROM 'feed')::int,
    filled = coalesce(v.filled, d.filled), address = coalesce(v.address, d.address),
    due = CASE v.outcome WHEN 'in_doubt' THEN CAST(:ask AS timestamptz)
                         WHEN 'deferred' THEN least(CAST(:again AS timestamptz), {_LAST})
                         ELSE least(coalesce(v.until, d.due), {_LAST}) END,
    stood_on = v.stood_on, claim = CASE WHEN v.outcome = 'in_doubt' THEN d.claim END
FROM jsonb_to_recordset(CAST(:rows AS jsonb))
    AS v(id bigint, outcome text, note text, filled jsonb, address text, until timestamptz,
    stood_on jsonb), dispatches s
WHERE d.dispatch_id = :dispatch AND d.taken_at = :taken AND d.contact_id = v.id AND d.claim = :claim
    AND d.outcome IN ('waiting', 'in_hand', 'deferred', 'in_doubt') AND s.id = d.dispatch_id
RETURNING d.contact_id
"""


class Claimed(NamedTuple):
    """One claimed person: the delivery's number, how often the gateway delayed, whether
    the address is on another record of the audience, whether they are in the control group, in
    which portion, for which hour of the day, and what the event said because of which it is
    sent."""

    number: int
    tries: int
    repeated: bool
    control: bool
    portion: int | None
    hour: int | None
    given: dict[str, Any] | None


class ClaimLost(Exception):
    """The connection that held the lock is gone: another worker may have the batch's people by
    now."""


class Claim:
    """One batch of a dispatch, held by this worker."""

    def __init__(
        self,
        database: Database,
        connection: sa.Connection,
        dispatch_id: int,
        claim: uuid.UUID,
        batch: int,
        again: bool,
    ):
        self.database, self._connection = database, connection
        self.batch, self._again = batch, again
        self.key: dict[str, Any] = {"dispatch": dispatch_id, "claim": claim}
        self._lost = False
        #: it has its people
        self.has_people = False
        #: the batch stays when it is let go, with its people, because it failed
        self.failed = False

    @classmethod
    @contextlib.contextmanager
    def begin_new(cls, database: Database, dispatch_id: int, task: str) -> Iterator["Claim"]:
        """A new batch without anybody in it yet."""
        token = uuid.uuid4()
        with database.engine.connect() as connection:
            claim = cls(database, connection, dispatch_id, token, 0, again=False)
            with claim.session() as session:
                claim.batch = session.execute(
                    sa.text(BEGUN), {**claim.key, "task": task}
                ).scalar_one()
                # Before anybody can see the batch: one without a lock is forgotten.
                session.execute(sa.text(LOCKED), claim._lock)
            with claim._held():
                yield claim

    @classmethod
    @contextlib.contextmanager
    def of_failed(cls, database: Database, batch: int) -> Iterator["Claim | None"]:
        """A batch that failed, with the people it had; None when it is gone, or somebody has it."""
        with database.engine.connect() as connection:
            claim = cls(database, connection, 0, uuid.uuid4(), batch, again=True)
            with claim.session() as session:
                mine = session.execute(sa.text(LOCKED), claim._lock).scalar()
                row = (
                    session.execute(
                        sa.text(RENEWED), {"claim": claim.key["claim"], "batch": batch}
                    ).first()
                    if mine
                    else None
                )
            if row:
                claim.key |= {"dispatch": row.dispatch_id, "former": row.former}
            if mine:
                with claim._held():
                    yield claim if row else None
            else:
                yield None

    @property
    def _lock(self) -> dict[str, int]:
        return {"locks": LOCKS, "lock": lock_of(self.batch)}

    @contextlib.contextmanager
    def _held(self) -> Iterator[None]:
        try:
            yield
        finally:
            self._let_go()

    def _let_go(self) -> None:
        try:
            with self.session() as session:
                if not self.failed:
                    session.execute(
                        sa.text("DELETE FROM batches WHERE id = :batch"), {"batch": self.batch}
                    )
                session.execute(sa.text("SELECT pg_advisory_unlock(:locks, :lock)"), self._lock)
        except (ClaimLost, sa.exc.SQLAlchemyError):
            # The lock went with its connection; it must not come back into the pool with it.
            self._connection.invalidate()

    @contextlib.contextmanager
    def session(self) -> Iterator[orm.Session]:
        """A transaction on the connection that holds the lock. Raises ClaimLost when that is gone,
        then and ever after."""
        if self._lost:
            raise ClaimLost
        try:
            with orm.Session(self._connection, expire_on_commit=False) as session, session.begin():
                yield session
        except sa.exc.DBAPIError as problem:
            if problem.connection_invalidated:
                # Used again, the connection would quietly be made anew, without the lock.
                self._lost = True
                raise ClaimLost(str(problem.orig)) from problem
            raise

    def take(self, session: orm.Session, now: dt.datetime, whole: bool) -> dict[int, Claimed]:
        """Claims who is due, BATCH people at the most, by contact."""
        rows = session.execute(
            sa.text(CLAIM_AGAIN if self._again else CLAIM),
            {**self.key, "now": now, "most": BATCH, "whole": whole},
        )
        # By place, as both statements say it: by name it took twice as long for a thousand people.
        return {row[0]: Claimed(*row[1:]) for row in rows}

    def hold(self) -> None:
        """Claims who is due for a batch that failed before it had anybody, so that the same people
        do not make the next one fail, too."""
        if self.has_people:
            return
        with self.session() as session:
            self.key["taken"] = session.get_one(Dispatch, self.key["dispatch"]).taken_at
            self.take(session, clock.now(session), whole=False)

    def begin(
        self, session: orm.Session, now: dt.datetime, people: Sequence[Mapping[str, Any]]
    ) -> set[int]:
        """Notes people ({id, filled, address}) as being handed over. Gives those who still may
        be."""
        done = session.execute(sa.text(BEGIN), {**self.key, "now": now, "rows": as_json(people)})
        return set(done.scalars())

    def write(
        self,
        session: orm.Session,
        now: dt.datetime,
        results: Collection[Handed],
        can_be_asked: bool,
        known: Mapping[int, tuple[dict[str, Any], str]],
        said: Mapping[int, Verdict] | None = None,
    ) -> set[int]:
        """Writes what became of people; `known` has values and address of those that were not noted
        before, `said` the verdicts of those who wait, or to whom nothing is sent.

        Gives those it was written of: not who was written already, or whom somebody else has
        claimed since.
        """
        if not results:
            return set()
        if any(r.outcome in ("waiting", "deferred") for r in results):
            # Stopping either sees these rows or is seen here.
            session.execute(
                sa.text("SELECT 1 FROM dispatches WHERE id = :dispatch FOR SHARE"), self.key
            )
        rows = [_row(r, known.get(r.contact_id), (said or {}).get(r.contact_id)) for r in results]
        done = session.execute(
            sa.text(WRITE),
            {
                **self.key,
                "rows": as_json(rows),
                "now": now,
                "again": now + TRY_AGAIN,
                "ask": now + ASK_AFTER if can_be_asked else None,
            },
        )
        return set(done.scalars())

    @contextlib.contextmanager
    def after_loss(self) -> Iterator[orm.Session]:
        """A transaction on another connection, to write by the token what is known after the claim
        was lost.

        Waits for a database that is away. Raises what it raised last when it stays away.
        """
        deadline = time.monotonic() + _WRITES_FOR
        gap = 0.2
        while (trouble := self.database.problem()) and time.monotonic() < deadline:
            log.warning(
                "database away, results wait", dispatch=self.key["dispatch"], problem=trouble
            )
            time.sleep(gap)
            gap = min(2 * gap, 5.0)
        with self.database.session() as session:
            yield session


def _row(
    handed: Handed, known: tuple[dict[str, Any], str] | None, said: Verdict | None
) -> dict[str, Any]:
    """What WRITE reads of one person."""
    row: dict[str, Any] = {
        "id": handed.contact_id,
        "outcome": handed.outcome,
        "note": clean(handed.note),
    }
    if known:
        row["filled"], row["address"] = known
    if said:
        row["stood_on"] = said.to_json()
        row["until"] = said.until.isoformat() if said.until else None
    return row


def lock_of(batch: int) -> int:
    """The second number of a batch's lock."""
    return batch % _MOST_LOCKS


def as_json(rows: Sequence[Mapping[str, Any]]) -> str:
    return orjson.dumps(list(rows)).decode()


def clean(words: str) -> str:
    """A gateway's words without what the database cannot hold."""
    return words.replace("\0", "").encode(errors="replace").decode()


def is_storable(filled: Mapping[str, Any]) -> bool:
    """Whether values can be kept with a delivery: PostgreSQL's jsonb takes no NUL, JSON no lone
    surrogate."""
    try:
        return b"\\u0000" not in orjson.dumps(filled)
    except (TypeError, ValueError):
        return False
