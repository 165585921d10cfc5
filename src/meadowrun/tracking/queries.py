"""Typed reads of what comes back: kinds of events, keys, websites, devices."""

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.tracking.models import ApiKey, EventKind


def event_kinds(session: orm.Session) -> list[EventKind]:
    """Every kind of event, by what people did."""
    return list(session.scalars(sa.select(EventKind).order_by(EventKind.did)))


def event_kind(session: orm.Session, key: str | None) -> EventKind | None:
    """The kind of a key, also of one that was merged into it."""
    return session.scalar(sa.select(EventKind).where(sa.or_(EventKind.key == key, EventKind.aka.any(key)))) if key else None


def merged_kinds(session: orm.Session) -> dict[str, str]:
    """The keys of kinds of event that were merged into others → the keys of those."""
    return dict(session.execute(sa.text("SELECT unnest(aka), key FROM event_kinds WHERE aka <> '{}'")).tuples().all())


def keys(session: orm.Session) -> list[ApiKey]:
    """The keys that still work, oldest first."""
    return list(session.scalars(sa.select(ApiKey).where(ApiKey.retired.is_(False)).order_by(ApiKey.id)))


def websites(session: orm.Session) -> list[str]:
    """The addresses of the websites that carry our script."""
    rows = session.execute(sa.text("SELECT DISTINCT unnest(origins) FROM api_keys WHERE kind = 'site' AND NOT retired ORDER BY 1"))
    return [row[0] for row in rows]


def devices_by_kind(session: orm.Session) -> dict[str, int]:
    """How many devices of each kind allow notices."""
    return {row[0]: row[1] for row in session.execute(
        sa.text("SELECT kind, count(*) FROM push_devices WHERE gone_at IS NULL GROUP BY kind"))}


def devices_of(session: orm.Session, address: str) -> list[sa.Row[tuple[int, str, str, str, str]]]:
    """The devices of a contact's email address that allow notices: id, endpoint, p256dh, auth, kind."""
    return list(session.execute(sa.text(
        "SELECT p.id, p.endpoint, p.p256dh, p.auth, p.kind FROM push_devices p JOIN contacts c ON c.id = p.contact_id "
        "WHERE c.email_key = :address AND p.gone_at IS NULL"), {"address": address}))


def has_cards(session: orm.Session, contact_id: int) -> bool:
    """Whether cards wait for somebody on the website."""
    return bool(session.scalar(sa.text("SELECT EXISTS (SELECT 1 FROM card_places WHERE contact_id = :id)"), {"id": contact_id}))
