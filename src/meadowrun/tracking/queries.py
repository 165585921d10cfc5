"""Typed reads of what comes back."""

import sqlalchemy as sa
from sqlalchemy import orm


def has_in_app_messages(session: orm.Session, contact_id: int) -> bool:
    """Whether in-app messages wait for somebody on the website."""
    return bool(
        session.scalar(
            sa.text("SELECT EXISTS (SELECT 1 FROM in_app_places WHERE contact_id = :id)"),
            {"id": contact_id},
        )
    )
