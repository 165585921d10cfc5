"""Batches that failed as a whole: tried again with growing gaps, and after the last try shown with
what to do."""

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
UPDATE batches SET times = times + 1, failed_at = :now, reason = :reason,
    not_before = :now + make_interval(secs => (CAST(:gaps AS int[]))[least(times + 1, :most)])
WHERE id = :batch
"""
#: Batches that failed and may be tried again now.
DUE = (
    "SELECT id FROM batches WHERE times BETWEEN 1 AND :most - 1 AND not_before <= :now ORDER BY id"
)
#: Whether settling failed for a dispatch: it is tried again with its batch, not beside it.
KEEPS = "SELECT 1 FROM batches WHERE dispatch_id = :id AND task = 'settle' AND times > 0 LIMIT 1"
#: The batches that failed: by dispatch, how many, how often at the most, the last reason.
OF_DISPATCHES = """
SELECT s.id, s.owner_kind, s.owner_id, s.name, count(*) AS batches, max(b.times) AS times,
max(b.failed_at) AS at,
    (array_agg(b.reason ORDER BY b.failed_at DESC))[1] AS reason
FROM batches b JOIN dispatches s ON s.id = b.dispatch_id
WHERE b.times > 0 AND s.state IN ('running', 'paused') AND (CAST(:dispatch AS bigint) IS NULL
OR s.id = :dispatch)
GROUP BY s.id ORDER BY max(b.failed_at) DESC
"""


@dataclasses.dataclass(frozen=True)
class Trouble:
    """What keeps batches of a dispatch from leaving."""

    dispatch_id: int
    owner_kind: str
    owner_id: int
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


def note(database: Database, batch: int, problem: Exception) -> bool:
    """Notes that a batch failed, and says whether that could be noted. What the database cannot
    take now stays in the log."""
    try:
        with database.session() as session:
            session.execute(
                sa.text(NOTE),
                {
                    "batch": batch,
                    "now": clock.now(session),
                    "gaps": list(_GAPS),
                    "most": MOST,
                    "reason": _reason(problem),
                },
            )
    except sa.exc.SQLAlchemyError:
        log.exception("the failure of a batch could not be noted", batch=batch)
        return False
    return True


def due(session: orm.Session, now: dt.datetime) -> list[int]:
    """The batches that are to be tried again now."""
    return list(session.execute(sa.text(DUE), {"now": now, "most": MOST}).scalars())


def keeps_from_settling(session: orm.Session, dispatch_id: int) -> bool:
    return session.execute(sa.text(KEEPS), {"id": dispatch_id}).scalar() is not None


def of(session: orm.Session, dispatch_id: int | None = None) -> list[Trouble]:
    """What keeps batches from leaving: of one dispatch, or of all."""
    return [
        Trouble(*row) for row in session.execute(sa.text(OF_DISPATCHES), {"dispatch": dispatch_id})
    ]


#: How long ago a worker last did something for a dispatch, and last gave a sign of life, in seconds
#: of real time.
SIGNS = """
SELECT (SELECT extract(epoch FROM clock_timestamp() - s.moved_at) FROM dispatches s
WHERE s.id = :dispatch) AS moved,
    (SELECT extract(epoch FROM clock_timestamp() - max(last_heartbeat))
    FROM procrastinate_workers) AS heard
"""
#: Seconds without anything happening after which a page says so.
_STILL = 120


def standing_still(session: orm.Session, dispatch_id: int | None) -> str | None:
    """What to say of a dispatch with people due for whom nothing has happened for a while, or
    (None) of one that is not there yet; None while it moves."""
    signs = session.execute(sa.text(SIGNS), {"dispatch": dispatch_id}).one()
    if signs.heard is None or signs.heard > _STILL:
        since = f" for {ago(signs.heard)}" if signs.heard is not None else ""
        return (
            f"No worker has given a sign of life{since}, so nothing goes out. Start one "
            "(./meadowrun work), and see whether the "
            "database can write: a full disk stops it, too."
        )
    if signs.moved is not None and signs.moved > _STILL:
        return (
            f"Nothing has been handed over for {ago(signs.moved)}, although a worker runs. Its "
            "log says why; a full disk of the "
            "database stops it, too."
        )
    return None


def ago(seconds: float) -> str:
    """3 minutes, 2 hours."""
    minutes = int(seconds // 60)
    return count_of(minutes, "minute") if minutes < 120 else count_of(minutes // 60, "hour")


def try_again(session: orm.Session, dispatch_id: int) -> None:
    """A person says that what was wrong is fixed: the people of batches that failed are free
    again."""
    session.execute(
        sa.text("DELETE FROM batches WHERE dispatch_id = :dispatch AND times > 0"),
        {"dispatch": dispatch_id},
    )
    jobs.enqueue(session, "outgoing.sweep")
