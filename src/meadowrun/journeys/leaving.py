"""Takes people off the step they are on, whatever they do there."""

from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.journeys.moves import Move, move
from meadowrun.outgoing.actions import give_up
from meadowrun.outgoing.models import Dispatch

#: Messages of some entries that are on their way: dispatch and delivery.
_ON_THEIR_WAY = """
SELECT dispatch_id, delivery FROM journey_entries
WHERE id = ANY(:entries) AND phase = 'sending' AND dispatch_id IS NOT NULL
ORDER BY dispatch_id
"""


def take_off(session: orm.Session, moves: Sequence[Move]) -> None:
    """Makes moves of people whatever they do now: what waits to be sent to them is not sent any
    more."""
    if not moves:
        return
    values = {"entries": [one.id for one in moves]}
    waiting: dict[int, list[int]] = {}
    for dispatch_id, delivery in session.execute(sa.text(_ON_THEIR_WAY), values):
        waiting.setdefault(dispatch_id, []).append(delivery)
    for dispatch_id, numbers in waiting.items():
        give_up(session, session.get_one(Dispatch, dispatch_id), numbers)
    move(session, moves)
