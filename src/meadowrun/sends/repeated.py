"""Who of those who would get a message has it already: said before it goes to them once more."""

import dataclasses
import datetime as dt

import sqlalchemy as sa

from meadowrun.core.guardrails.guards import AS_IT_LEAVES, verdict_sql
from meadowrun.outgoing.models import Dispatch
from meadowrun.people.moment import Moment
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_of, channel_of, facts_of_audience

#: So many of the last dispatches of a message are looked at.
_MOST = 100
#: Those who would get a send and got one of some dispatches, and when the last of them did.
_HAD = """
SELECT count(DISTINCT d.contact_id) AS people, max(coalesce(d.at, d.taken_at)) AS last
FROM deliveries d
WHERE d.dispatch_id = ANY(:had_dispatches) AND d.taken_at = ANY(:had_taken)
AND d.outcome IN ('delivered', 'in_doubt', 'in_hand', 'waiting', 'deferred')
AND d.contact_id IN (SELECT id FROM ({facts}) x WHERE {verdict} = 'go')
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Had:
    """How many have it already, and since when the last of them."""

    people: int
    last: dt.datetime


def have_it(moment: Moment, send: Send) -> Had | None:
    """Who would get a send and got, or will get, the same message by another send or a journey;
    None where nobody did, or they are left out anyway. Raises Invalid."""
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
    who, channel = audience_of(moment, send), channel_of(moment.session, send)
    facts, asked_of = facts_of_audience(send, who, channel, moment.now)
    values = dict(asked_of) | {
        "had_dispatches": [row.id for row in before],
        "had_taken": [row.taken_at for row in before],
    }
    verdict = verdict_sql(send.consent_rule, AS_IT_LEAVES)
    query = sa.text(_HAD.format(facts=facts, verdict=verdict))
    row = moment.session.execute(query, values).one()
    return Had(row.people, row.last) if row.people else None
