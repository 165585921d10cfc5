"""What happened is looked at in its order.

Revision ID: 0070
Revises: 0069
"""

from alembic import op

revision = "0070"
down_revision = "0069"


def upgrade() -> None:
    op.execute("CREATE INDEX ix_heard_at ON heard (at)")


def downgrade() -> None:
    op.execute("DROP INDEX ix_heard_at")
