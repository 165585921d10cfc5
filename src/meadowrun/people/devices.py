"""Browsers and phones that allow push notifications."""

import sqlalchemy as sa
from sqlalchemy import orm


def devices_by_kind(session: orm.Session) -> dict[str, int]:
    """How many devices of each kind allow push notifications."""
    return {
        row[0]: row[1]
        for row in session.execute(
            sa.text("SELECT kind, count(*) FROM push_devices WHERE gone_at IS NULL GROUP BY kind")
        )
    }


def devices_of(session: orm.Session, address: str) -> list[sa.Row[tuple[int, str, str, str, str]]]:
    """The devices of a contact's email address that allow push notifications: id, endpoint, p256dh,
    auth, kind."""
    return list(
        session.execute(
            sa.text(
                "SELECT p.id, p.endpoint, p.p256dh, p.auth, p.kind FROM push_devices p JOIN "
                "contacts c ON c.id = p.contact_id "
                "WHERE c.email_key = :address AND p.gone_at IS NULL"
            ),
            {"address": address},
        )
    )
