"""How many came into each journey in a week, and reached its goal, is found without reading all.

Revision ID: 0076
Revises: 0075
"""

from alembic import op

revision = "0076"
down_revision = "0075"


def upgrade() -> None:
    # Who came in later stands later in the table, nearly always: a few kB hold what is needed.
    op.execute(
        "CREATE INDEX ix_journey_entries_began ON journey_entries USING brin (began_at) "
        "WITH (autosummarize = on)"
    )
    op.execute(
        "CREATE INDEX ix_journey_entries_goal ON journey_entries (goal_at) "
        "WHERE goal_at IS NOT NULL"
    )


def downgrade() -> None:
    op.execute("DROP INDEX ix_journey_entries_began")
    op.execute("DROP INDEX ix_journey_entries_goal")
