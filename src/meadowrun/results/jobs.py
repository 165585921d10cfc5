"""Keeps the numbers of recent sends fresh for the pages that show many of them."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.results.models import SendNumbers
from meadowrun.results.queries import refresh_numbers
from meadowrun.sends.models import Send

#: So long after a send its numbers still move enough to be counted again and again.
LIVELY = dt.timedelta(days=21)


@jobs.task("results.refresh", "upkeep", every="* * * * * */20")
def refresh() -> None:
    """Counts lively sends, and older ones that were last counted while they were lively, or
    never."""
    with context().database.session() as session:
        now = clock.now(session)
        due = session.scalars(
            sa.select(Send)
            .outerjoin(SendNumbers, SendNumbers.send_id == Send.id)
            .where(
                Send.taken_at.is_not(None),
                sa.or_(
                    SendNumbers.send_id.is_(None),
                    Send.taken_at > now - LIVELY,
                    SendNumbers.counted_at < Send.taken_at + LIVELY,
                ),
            )
            .limit(50)
        ).all()
        for send in due:
            refresh_numbers(session, send, now)
