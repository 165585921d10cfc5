"""Kinds of events: what people can do."""

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.people.models import EventKind


def event_kinds(session: orm.Session) -> list[EventKind]:
    """Every kind of event, by what people did."""
    return list(session.scalars(sa.select(EventKind).order_by(EventKind.did)))


def event_kind(session: orm.Session, key: str | None) -> EventKind | None:
    """The kind of a key, also of one that was merged into it."""
    return (
        session.scalar(
            sa.select(EventKind).where(
                sa.or_(EventKind.key == key, sa.literal(key) == sa.any_(EventKind.aka))
            )
        )
        if key
        else None
    )


def merged_kinds(session: orm.Session) -> dict[str, str]:
    """The keys of kinds of event that were merged into others → the keys of those."""
    return dict(
        session.execute(sa.text("SELECT unnest(aka), key FROM event_kinds WHERE aka <> '{}'"))
        .tuples()
        .all()
    )
