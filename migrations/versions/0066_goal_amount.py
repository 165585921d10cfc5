"""What reaching the goal of a journey brought.

Revision ID: 0066
Revises: 0065
"""

from alembic import op

revision = "0066"
down_revision = "0065"


def upgrade() -> None:
    op.execute("ALTER TABLE journey_entries ADD goal_amount numeric")


def downgrade() -> None:
    op.execute("ALTER TABLE journey_entries DROP goal_amount")
