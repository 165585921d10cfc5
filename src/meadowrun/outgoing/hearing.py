"""Tells whoever waits for it that people reacted to a message."""

import datetime as dt
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

#: Puts reactions to a dispatch where those look who wait for them.
_HEAR = """
INSERT INTO heard (contact_id, at, noted_at)
SELECT v.contact, :now, :now FROM unnest(CAST(:contacts AS bigint[])) AS v(contact)
JOIN dispatches s ON s.id = :dispatch WHERE s.heard
"""


def hear(session: orm.Session, dispatch_id: int, contacts: Sequence[int], now: dt.datetime) -> None:
    """Says that something came back from some contacts to whom a dispatch went, where anybody waits
    for that."""
    values = {"dispatch": dispatch_id, "contacts": list(contacts), "now": now}
    session.execute(sa.text(_HEAR), values)
