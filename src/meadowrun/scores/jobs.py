"""Keeps scores worked out in the background."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.base.logs import log
from meadowrun.core.scores import ScoreProblem
from meadowrun.people.moment import at_present
from meadowrun.scores.models import Score
from meadowrun.scores.working import work_out

#: No score is worked out again by itself sooner than this, nor than this many times what it took: a
#: worker has other work to do.
AGAIN, TIMES = dt.timedelta(minutes=10), 30


@jobs.task("scores.refresh", "upkeep", every="* * * * * */30")
def refresh_due() -> None:
    """Works out scores that changed, or were last worked out a while ago, one transaction each."""
    with context().database.session() as session:
        now = clock.now(session)
        rest = sa.func.greatest(
            AGAIN, sa.func.make_interval(0, 0, 0, 0, 0, 0, TIMES * Score.seconds)
        )
        due = session.scalars(
            sa.select(Score.id)
            .where(sa.or_(Score.worked_out_at.is_(None), Score.worked_out_at + rest < now))
            .order_by(Score.worked_out_at.asc().nulls_first())
        ).all()
    for ident in due:
        with context().database.session() as session:
            score = session.get(Score, ident, with_for_update={"skip_locked": True})
            if score is None:
                continue
            began = clock.machine_now()
            try:
                work_out(
                    at_present(session, context().settings.timezone),
                    score,
                )
                score.seconds = (clock.machine_now() - began).total_seconds()
            except ScoreProblem as problem:
                # Its page says so, too; the points stay as they were.
                log.warning("a score cannot be worked out", score_id=ident, problem=str(problem))
