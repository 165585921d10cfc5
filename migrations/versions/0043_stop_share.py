"""Portions stop when too many bounce or complain.

Revision ID: 0043
Revises: 0042
"""

from alembic import op

revision = "0043"
down_revision = "0042"


def upgrade() -> None:
    for table in ("sends", "dispatches"):
        op.execute(f"ALTER TABLE {table} ADD COLUMN stop_percent real")


def downgrade() -> None:
    for table in ("sends", "dispatches"):
        op.execute(f"ALTER TABLE {table} DROP COLUMN stop_percent")
