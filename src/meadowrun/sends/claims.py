"""A chunk of a send in the hands of one worker: a lock, a token on the rows, and what is written of them.

The lock is PostgreSQL's advisory lock: it tells at once when a worker has died. It can also be lost while the worker
goes on (its connection is ended), so nothing stands on the lock alone: every step works on rows that bear the claim's
token, and on the connection that holds the lock. Whoever takes the chunk over writes a token of their own; the one
before then finds no rows of theirs, and stops.
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

from meadowrun.base.db import Database
from meadowrun.base.logs import log
from meadowrun.gateways.handing import Handed

#: Outcomes of people for whom something still happens.
OPEN = ("waiting", "in_hand", "deferred", "in_doubt")
TRY_AGAIN = dt.timedelta(minutes=15)
#: When a gateway that may be asked is first asked about a doubt.
ASK_AFTER = dt.timedelta(seconds=15)
#: Seconds for which what became of people is tried to be written after the connection was lost.
_WRITES_FOR = 60.0

#: Claims whoever of a chunk may go now: number, tries, repeated, held. Who is merely claimed stays as they are, unless
#: the gateway takes the whole batch at once.
CLAIM = """
UPDATE deliveries SET claim = :claim, claimed_at = clock_timestamp(), at = CASE WHEN :whole THEN :now ELSE at END,
    outcome = CASE WHEN :whole THEN 'in_hand' ELSE outcome END,
    not_before = CASE WHEN :whole THEN NULL ELSE not_before END
WHERE send_id = :send AND taken_at = :taken AND chunk = :chunk
    AND (outcome = 'waiting' OR outcome = 'deferred' AND not_before <= :now)
RETURNING contact_id, tries, repeated, held
"""

#: Notes some people of the claim as being handed over, while the send runs: their numbers.
BEGIN = """
UPDATE deliveries d SET outcome = 'in_hand', at = :now, not_before = NULL, note = NULL, claimed_at = clock_timestamp(),
    filled = v.filled, address = v.address
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, filled jsonb, address text), sends s
WHERE d.send_id = :send AND d.taken_at = :taken AND d.contact_id = v.id AND d.claim = :claim
    AND d.outcome IN ('waiting', 'deferred') AND s.id = d.send_id AND s.state = 'running'
RETURNING d.contact_id
"""

#: Writes what became of people of the claim: their numbers. Who would still have to go is not written to any more
#: when the send was stopped meanwhile.
WRITE = """
UPDATE deliveries d SET
    outcome = CASE WHEN v.outcome IN ('waiting', 'deferred') AND s.state = 'stopped' THEN 'stopped' ELSE v.outcome END,
    at = CASE WHEN v.outcome IN ('waiting', 'deferred') THEN d.at ELSE coalesce(d.at, :now) END,
    note = nullif(v.note, ''), tries = d.tries + (v.outcome = 'deferred')::int,
    filled = coalesce(v.filled, d.filled), address = coalesce(v.address, d.address),
    not_before = CASE v.outcome WHEN 'deferred' THEN CAST(:again AS timestamptz)
                                WHEN 'in_doubt' THEN CAST(:ask AS timestamptz) END,
    claim = CASE WHEN v.outcome = 'in_doubt' THEN d.claim END
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, outcome text, note text, filled jsonb, address text), sends s
WHERE d.send_id = :send AND d.taken_at = :taken AND d.contact_id = v.id AND d.claim = :claim
    AND d.outcome IN ('waiting', 'in_hand', 'deferred', 'in_doubt') AND s.id = d.send_id
RETURNING d.contact_id
"""


class Claimed(NamedTuple):
    """One claimed person: how often the gateway asked to come again, whether the address is on another record of the audience, and
    whether they are in the control group."""

    tries: int
    repeated: bool
    held: bool


class ClaimLost(Exception):
    """The connection that held the lock is gone: another worker may have the chunk by now."""


class Claim:
    """One chunk of a send, held by this worker."""

    def __init__(self, database: Database, connection: sa.Connection, send_id: int, chunk: int):
        self.database, self._connection = database, connection
        self.key: dict[str, Any] = {"send": send_id, "chunk": chunk, "claim": uuid.uuid4()}
        self._lost = False

    @classmethod
    @contextlib.contextmanager
    def of(cls, database: Database, send_id: int, chunk: int) -> Iterator["Claim | None"]:
        """The claim, or None when another worker has the chunk. Let go at the end, or with the process."""
        key = {"s": send_id, "c": chunk}
        with database.engine.connect() as connection:
            claim = cls(database, connection, send_id, chunk)
            with claim.session() as session:
                mine = session.execute(sa.text("SELECT pg_try_advisory_lock(:s, :c)"), key).scalar()
            try:
                yield claim if mine else None
            finally:
                if mine:
                    claim._let_go(key)

    def _let_go(self, key: Mapping[str, int]) -> None:
        try:
            with self.session() as session:
                session.execute(sa.text("SELECT pg_advisory_unlock(:s, :c)"), key)
        except (ClaimLost, sa.exc.SQLAlchemyError):
            # The lock went with its connection; it must not come back into the pool with it.
            self._connection.invalidate()

    @contextlib.contextmanager
    def session(self) -> Iterator[orm.Session]:
        """A transaction on the connection that holds the lock. Raises ClaimLost when that is gone, then and ever after."""
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
        """Claims whoever may go now, by number."""
        rows = session.execute(sa.text(CLAIM), {**self.key, "now": now, "whole": whole})
        return {row.contact_id: Claimed(row.tries, row.repeated, row.held) for row in rows}

    def begin(self, session: orm.Session, now: dt.datetime, people: Sequence[Mapping[str, Any]]) -> set[int]:
        """Notes people ({id, filled, address}) as being handed over. Gives those who still may be."""
        done = session.execute(sa.text(BEGIN), {**self.key, "now": now, "rows": as_json(people)})
        return set(done.scalars())

    def write(self, session: orm.Session, now: dt.datetime, results: Collection[Handed], can_be_asked: bool,
              known: Mapping[int, tuple[dict[str, Any], str]]) -> set[int]:
        """Writes what became of people; `known` has values and address of those that were not noted before.

        Gives those it was written of: not who was written already, or whom somebody else has claimed since.
        """
        if not results:
            return set()
        if any(r.outcome in ("waiting", "deferred") for r in results):
            # Stopping either sees these rows or is seen here.
            session.execute(sa.text("SELECT 1 FROM sends WHERE id = :send FOR SHARE"), self.key)
        rows = [{"id": r.contact_id, "outcome": r.outcome, "note": clean(r.note),
                 "filled": known[r.contact_id][0] if r.contact_id in known else None,
                 "address": known[r.contact_id][1] if r.contact_id in known else None} for r in results]
        done = session.execute(sa.text(WRITE), {**self.key, "rows": as_json(rows), "now": now, "again": now + TRY_AGAIN,
                                                "ask": now + ASK_AFTER if can_be_asked else None})
        return set(done.scalars())

    @contextlib.contextmanager
    def after_loss(self) -> Iterator[orm.Session]:
        """A transaction on another connection, to write by the token what is known after the claim was lost.

        Waits for a database that is away. Raises what it raised last when it stays away.
        """
        deadline = time.monotonic() + _WRITES_FOR
        gap = 0.2
        while (trouble := self.database.problem()) and time.monotonic() < deadline:
            log.warning("database away, results wait", send=self.key["send"], problem=trouble)
            time.sleep(gap)
            gap = min(2 * gap, 5.0)
        with self.database.session() as session:
            yield session


def as_json(rows: Sequence[Mapping[str, Any]]) -> str:
    return orjson.dumps(list(rows)).decode()


def clean(words: str) -> str:
    """A gateway's words without what the database cannot hold."""
    return words.replace("\0", "").encode(errors="replace").decode()


def is_storable(filled: Mapping[str, Any]) -> bool:
    """Whether values can be kept with a delivery: PostgreSQL's jsonb takes no NUL, JSON no lone surrogate."""
    try:
        return b"\\u0000" not in orjson.dumps(filled)
    except (TypeError, ValueError):
        return False
