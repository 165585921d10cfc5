"""What becomes of people who still wait at the last moment.

Revision ID: 0049
Revises: 0048
"""

from alembic import op

revision = "0049"
down_revision = "0048"


def upgrade() -> None:
    for table in ("sends", "dispatches"):
        op.execute(f"ALTER TABLE {table} ADD COLUMN at_last text NOT NULL DEFAULT 'drop'")


def downgrade() -> None:
    for table in ("sends", "dispatches"):
        op.execute(f"ALTER TABLE {table} DROP COLUMN at_last")
