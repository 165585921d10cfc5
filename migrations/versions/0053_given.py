"""What the event that brought somebody in said, with what is sent because of it.

Revision ID: 0053
Revises: 0052
"""

from alembic import op

revision = "0053"
down_revision = "0052"


def upgrade() -> None:
    op.execute("ALTER TABLE deliveries ADD COLUMN given jsonb")


def downgrade() -> None:
    op.execute("ALTER TABLE deliveries DROP COLUMN given")
