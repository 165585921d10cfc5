"""When the next person may come into a journey that takes in only so many an hour.

Revision ID: 0068
Revises: 0067
"""

from alembic import op

revision = "0068"
down_revision = "0067"


def upgrade() -> None:
    op.execute("ALTER TABLE journeys ADD door_free_at timestamptz")
    op.execute("ALTER TABLE journeys ADD most_unfilled double precision DEFAULT 5")


def downgrade() -> None:
    op.execute("ALTER TABLE journeys DROP most_unfilled")
    op.execute("ALTER TABLE journeys DROP door_free_at")
