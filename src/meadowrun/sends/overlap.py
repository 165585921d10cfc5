"""How many people several sends reach together: of planned ones whoever is in the audience now, of
those that left whoever got them."""

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.people.moment import Moment
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import compiler_for
from meadowrun.sends.models import Send
from meadowrun.sends.queries import audience_sql

#: Who got a send, or may have.
_GOT = (
    "c.id IN (SELECT contact_id FROM deliveries WHERE dispatch_id = {dispatch} "
    "AND taken_at = '{taken}' AND outcome IN ('delivered', 'in_doubt', 'in_hand', 'waiting', "
    "'deferred'))"
)


def reached_sql(moment: Moment, send: Send, compiler: Compiler) -> str:
    """Who is reached by a send, as SQL over `contacts c`; its values are the compiler's. Nobody by
    one whose audience cannot be worked out: its own page says so."""
    if send.dispatch_id is not None and send.taken_at is not None:
        return _GOT.format(dispatch=int(send.dispatch_id), taken=send.taken_at.isoformat())
    try:
        return audience_sql(moment, send.audience, compiler)
    except Invalid:
        return "FALSE"


def overlaps(moment: Moment, pairs: Sequence[tuple[Send, Send]]) -> list[int]:
    """How many people are reached by both of each pair."""
    if not pairs:
        return []
    compiler = compiler_for(moment)
    known: dict[int, str] = {}
    for send in {send.id: send for pair in pairs for send in pair}.values():
        known[send.id] = reached_sql(moment, send, compiler)
    counts = ", ".join(
        f"count(*) FILTER (WHERE ({known[one.id]}) AND ({known[other.id]}))" for one, other in pairs
    )
    asked: dict[str, Any] = compiler.values
    row = moment.session.execute(sa.text(f"SELECT {counts} FROM contacts c"), asked).one()
    return list(row)
