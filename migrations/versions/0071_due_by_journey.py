"""Who is due is found by journey: those of a paused one are not read again with each look.

Revision ID: 0071
Revises: 0070
"""

from alembic import op

revision = "0071"
down_revision = "0070"


def upgrade() -> None:
    op.execute("DROP INDEX ix_journey_entries_due")
    op.execute(
        "CREATE INDEX ix_journey_entries_due ON journey_entries (journey_id, due, id)"
        " WHERE due IS NOT NULL"
    )


def downgrade() -> None:
    op.execute("DROP INDEX ix_journey_entries_due")
    op.execute("CREATE INDEX ix_journey_entries_due ON journey_entries (due) WHERE due IS NOT NULL")
