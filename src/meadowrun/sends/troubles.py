"""Batches that failed as a whole: tried again with growing gaps, and after the last try shown with what to do."""

import dataclasses
import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock, jobs
from meadowrun.base.db import Database
from meadowrun.base.logs import log
from meadowrun.core.wording import count_of

MOST = 5
#: Seconds before the next try, by how often it failed.
_GAPS = (10, 30, 90, 270, 270)

NOTE = """
INSERT INTO send_troubles (send_id, chunk, times, at, not_before, reason)
VALUES (:send, :chunk, 1, :now, :now + make_interval(secs => :first), :reason)
ON CONFLICT (send_id, chunk) DO UPDATE SET times = send_troubles.times + 1, at = :now, reason = :reason,
    not_before = :now + make_interval(secs => (CAST(:gaps AS int[]))[send_troubles.times + 1])
"""
#: The batches of sends that failed: by send, how many, how often at the most, the last reason.
OF_SENDS = """
SELECT t.send_id, s.name, count(*) AS batches, max(t.times) AS times, max(t.at) AS at,
    (array_agg(t.reason ORDER BY t.at DESC))[1] AS reason
FROM send_troubles t JOIN sends s ON s.id = t.send_id
WHERE s.state IN ('running', 'paused') AND (CAST(:send AS bigint) IS NULL OR t.send_id = :send)
GROUP BY 1, 2 ORDER BY max(t.at) DESC
"""


@dataclasses.dataclass(frozen=True)
class Trouble:
    """What keeps batches of a send from leaving."""

    send_id: int
    name: str
    batches: int
    times: int
    at: dt.datetime
    reason: str

    @property
    def given_up(self) -> bool:
        """Tried so often that only a person can say what next."""
        return self.times >= MOST


def _reason(problem: Exception) -> str:
    """The first line of what went wrong, in the words of whoever said it."""
    said = getattr(problem, "orig", None) or problem
    first = (str(said).strip() or type(said).__name__).splitlines()[0]
    return first.replace("\0", "")[:300]


def note(database: Database, send_id: int, chunk: int, problem: Exception) -> None:
    """Notes that a batch failed. What the database cannot take now stays in the log."""
    try:
        with database.session() as session:
            session.execute(sa.text(NOTE), {"send": send_id, "chunk": chunk, "now": clock.now(session), "first": _GAPS[0],
                                            "gaps": list(_GAPS), "reason": _reason(problem)})
    except sa.exc.SQLAlchemyError:
        log.exception("the failure of a batch could not be noted", send=send_id, chunk=chunk)


def over(session: orm.Session, send_id: int, chunk: int) -> None:
    """A batch went well again."""
    session.execute(sa.text("DELETE FROM send_troubles WHERE send_id = :send AND chunk = :chunk"),
                    {"send": send_id, "chunk": chunk})


def waiting(session: orm.Session, send_id: int, now: dt.datetime) -> set[int]:
    """The chunks that are not tried now: it is too early, or it was too often."""
    return set(session.execute(sa.text(
        "SELECT chunk FROM send_troubles WHERE send_id = :send AND (not_before > :now OR times >= :most)"),
        {"send": send_id, "now": now, "most": MOST}).scalars())


def of(session: orm.Session, send_id: int | None = None) -> list[Trouble]:
    """What keeps batches from leaving: of one send, or of all."""
    return [Trouble(*row) for row in session.execute(sa.text(OF_SENDS), {"send": send_id})]


#: How long ago a worker last did something for a send, and last gave a sign of life, in seconds of real time.
SIGNS = """
SELECT extract(epoch FROM clock_timestamp() - s.moved_at) AS moved,
    (SELECT extract(epoch FROM clock_timestamp() - max(last_heartbeat)) FROM procrastinate_workers) AS heard
FROM sends s WHERE s.id = :send
"""
#: Seconds without anything happening after which a page says so.
_STILL = 120


def standing_still(session: orm.Session, send_id: int) -> str | None:
    """What to say of a send with people due for whom nothing has happened for a while; None while it moves."""
    signs = session.execute(sa.text(SIGNS), {"send": send_id}).one()
    if signs.heard is None or signs.heard > _STILL:
        since = f" for {ago(signs.heard)}" if signs.heard is not None else ""
        return (f"No worker has given a sign of life{since}, so nothing goes out. Start one (./meadowrun work), and see whether the "
                "database can write: a full disk stops it, too.")
    if signs.moved is not None and signs.moved > _STILL:
        return (f"Nothing has been handed over for {ago(signs.moved)}, although a worker runs. Its log says why; a full disk of the "
                "database stops it, too.")
    return None


def ago(seconds: float) -> str:
    """3 minutes, 2 hours."""
    minutes = int(seconds // 60)
    return count_of(minutes, "minute") if minutes < 120 else count_of(minutes // 60, "hour")


def try_again(session: orm.Session, send_id: int) -> None:
    """A person says that what was wrong is fixed."""
    session.execute(sa.text("DELETE FROM send_troubles WHERE send_id = :send"), {"send": send_id})
    jobs.enqueue(session, "sends.sweep")
