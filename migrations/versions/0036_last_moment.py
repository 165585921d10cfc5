"""A dispatch can have a last moment: whoever still waits then gets nothing, and is counted.

Revision ID: 0036
Revises: 0035
"""

from alembic import op

revision = "0036"
down_revision = "0035"

BEFORE = (
    "'waiting', 'in_hand', 'in_doubt', 'deferred', 'delivered', 'bounced', 'control', "
    "'over_limit', 'duplicate', 'no_consent', 'suppressed', 'no_address', 'bad_address', "
    "'bounced_before', 'not_rendered', 'stopped'"
)


def upgrade() -> None:
    op.execute("ALTER TABLE dispatches ADD COLUMN last_moment timestamptz")
    op.execute("ALTER TABLE sends ADD COLUMN within_hours integer NOT NULL DEFAULT 168")
    _allow(f"{BEFORE}, 'late'")


def downgrade() -> None:
    op.execute("UPDATE deliveries SET outcome = 'stopped' WHERE outcome = 'late'")
    _allow(BEFORE)
    op.execute("ALTER TABLE sends DROP COLUMN within_hours")
    op.execute("ALTER TABLE dispatches DROP COLUMN last_moment")


def _allow(outcomes: str) -> None:
    op.execute("ALTER TABLE deliveries DROP CONSTRAINT ck_deliveries_outcome")
    op.execute(
        "ALTER TABLE deliveries ADD CONSTRAINT ck_deliveries_outcome "
        f"CHECK (outcome IN ({outcomes}))"
    )
