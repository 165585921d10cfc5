"""A send can end at a moment that is named, instead of so long after its start.

Revision ID: 0073
Revises: 0072
"""

from alembic import op

revision = "0073"
down_revision = "0072"


def upgrade() -> None:
    op.execute("ALTER TABLE sends ADD COLUMN ends_at timestamptz")


def downgrade() -> None:
    op.execute("ALTER TABLE sends DROP COLUMN ends_at")
