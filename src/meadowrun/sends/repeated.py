"""Who of an audience has the same message already: said before it goes to them once more."""

import dataclasses
import datetime as dt

import sqlalchemy as sa

from meadowrun.outgoing.models import Dispatch
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_sql

#: So many of the last dispatches of a message are looked at.
_MOST = 100
#: People of an audience who got one of some dispatches, and when the last of them did.
_HAD = """
SELECT count(DISTINCT d.contact_id) AS people, max(coalesce(d.at, d.taken_at)) AS last
FROM deliveries d JOIN contacts c ON c.id = d.contact_id
WHERE d.dispatch_id = ANY(:dispatches) AND d.taken_at = ANY(:taken)
AND d.outcome IN ('delivered', 'in_doubt', 'in_hand', 'waiting', 'deferred') AND ({predicate})
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Had:
    """How many have it already, and since when the last of them."""

    people: int
    last: dt.datetime


def have_it(moment: Moment, send: Send) -> Had | None:
    """Who of the audience got, or will get, the same message by another send or a journey; None
    where nobody did, or they are left out anyway. Raises Invalid."""
    if send.message_id is None or send.again_rule == "message":
        return None
    asked = (
        sa.select(Dispatch.id, Dispatch.taken_at)
        .where(Dispatch.message_id == send.message_id, Dispatch.id != (send.dispatch_id or 0))
        .order_by(Dispatch.id.desc())
        .limit(_MOST)
    )
    before = moment.session.execute(asked).all()
    if not before:
        return None
    compiler = compiler_for(moment)
    predicate = audience_sql(moment, send.audience, compiler)
    values = compiler.values | {
        "dispatches": [row.id for row in before],
        "taken": [row.taken_at for row in before],
    }
    row = moment.session.execute(sa.text(_HAD.format(predicate=predicate)), values).one()
    return Had(row.people, row.last) if row.people else None
