"""Who waits for the answer of another server is found without looking at everybody.

Revision ID: 0059
Revises: 0058
"""

from alembic import op

revision = "0059"
down_revision = "0058"


def upgrade() -> None:
    op.execute(
        "CREATE INDEX ix_journey_entries_calling ON journey_entries (id) WHERE phase = 'calling'"
    )


def downgrade() -> None:
    op.execute("DROP INDEX ix_journey_entries_calling")
