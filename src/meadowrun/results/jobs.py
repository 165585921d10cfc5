"""Keeps the numbers of recent sends fresh for the pages that show many of them."""

import datetime as dt

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.results.models import SendNumbers
from meadowrun.results.queries import refresh_numbers
from meadowrun.sends.models import Send

#: So many sends are counted in one go; the others follow in the next.
MOST = 50
#: So long after a send its numbers still move enough to be counted again and again.
LIVELY = dt.timedelta(days=21)


@jobs.task("results.refresh", "upkeep", every="* * * * * */20")
def refresh() -> None:
    """Counts lively sends, and older ones that were last counted while they were lively, or
    never: first those whose last count is the oldest. One that cannot be counted does not keep
    the others from it; it is raised in the end."""
    database = context().database
    with database.session() as session:
        now = clock.now(session)
        due = session.scalars(
            sa.select(Send.id)
            .outerjoin(SendNumbers, SendNumbers.send_id == Send.id)
            .where(
                Send.taken_at.is_not(None),
                sa.or_(
                    SendNumbers.send_id.is_(None),
                    Send.taken_at > now - LIVELY,
                    SendNumbers.counted_at < Send.taken_at + LIVELY,
                ),
            )
            .order_by(SendNumbers.counted_at.nulls_first(), Send.id)
            .limit(MOST)
        ).all()
    failed: Exception | None = None
    for number in due:
        try:
            with database.session() as session, context().reports.session() as reads:
                send = session.get(Send, number)
                if send is not None:
                    refresh_numbers(session, send, now, reads)
        except Exception as error:
            failed = failed or error
    if failed is not None:
        raise failed
