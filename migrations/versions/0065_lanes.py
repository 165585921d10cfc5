"""Lanes of a journey: somebody can be in several at once.

Revision ID: 0065
Revises: 0064
"""

from alembic import op

revision = "0065"
down_revision = "0064"

#: Who is inside: once in each lane for each subject.
INSIDE = """
CREATE UNIQUE INDEX uq_journey_entries_inside ON journey_entries ({columns})
WHERE state = 'inside'
"""


def upgrade() -> None:
    op.execute("ALTER TABLE journey_entries ADD lane text DEFAULT '' NOT NULL")
    op.execute("DROP INDEX uq_journey_entries_inside")
    op.execute(INSIDE.format(columns="journey_id, contact_id, lane, subject"))


def downgrade() -> None:
    op.execute("DROP INDEX uq_journey_entries_inside")
    op.execute(INSIDE.format(columns="journey_id, contact_id, subject"))
    op.execute("ALTER TABLE journey_entries DROP lane")
