"""Tells whoever waits for it that people reacted to a message."""

import datetime as dt
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

#: Puts reactions to some deliveries where those look who wait for them.
_HEAR = """
INSERT INTO heard (contact_id, at, noted_at)
SELECT d.contact_id, :now, :now FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE s.heard AND d.number = ANY(:numbers)
"""


def hear(session: orm.Session, numbers: Sequence[int], now: dt.datetime) -> None:
    """Says that something came back from deliveries of some numbers, where anybody waits for
    that."""
    session.execute(sa.text(_HEAR), {"numbers": list(numbers), "now": now})
