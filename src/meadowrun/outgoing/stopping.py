"""Portions that go no further, because too many of those before bounced or brought complaints."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.wording import number
from meadowrun.outgoing.models import Dispatch
from meadowrun.outgoing.settling import locked, set_state

#: Of fewer than so many nothing is concluded.
LEAST = 20

#: How many of a dispatch were handed over, and how many of those bounced or brought a complaint.
_BAD = """
SELECT count(*) AS handed, count(*) FILTER (WHERE d.outcome = 'bounced' OR EXISTS (
    SELECT 1 FROM reactions r WHERE r.contact_id = d.contact_id AND r.delivery = d.number
    AND r.kind = 'complained' AND r.at >= d.taken_at)) AS bad
FROM deliveries d WHERE d.dispatch_id = :id AND d.taken_at = :taken
AND d.outcome IN ('delivered', 'bounced', 'in_doubt')
"""


def stop_if_bad(session: orm.Session, dispatch: Dispatch, now: dt.datetime) -> None:
    """Pauses a running dispatch of which a larger share bounced or brought complaints than it
    takes, and says so. Whoever resumes it takes the rule away: it has been seen."""
    if dispatch.stop_percent is None or dispatch.state != "running":
        return
    of = {"id": dispatch.id, "taken": dispatch.taken_at}
    found = session.execute(sa.text(_BAD), of).one()
    if found.handed < LEAST or 100 * found.bad <= dispatch.stop_percent * found.handed:
        return
    here = locked(session, dispatch.id)
    if here.state != "running":
        return
    here.problem = (
        f"Paused by itself: {number(found.bad)} of {number(found.handed)} bounced or complained, "
        f"more than {here.stop_percent:g}%. Look into it; it goes on when you resume it."
    )
    here.stop_percent = None
    set_state(session, here, "paused", now)
