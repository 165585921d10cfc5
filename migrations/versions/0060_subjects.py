"""One person can be on a journey several times at once: once for each case, order or other subject.

Revision ID: 0060
Revises: 0059
"""

from alembic import op

revision = "0060"
down_revision = "0059"

_INSIDE = """
CREATE UNIQUE INDEX uq_journey_entries_inside
ON journey_entries (journey_id, contact_id{subject}) WHERE state = 'inside'
"""


def upgrade() -> None:
    op.execute("ALTER TABLE journey_entries ADD COLUMN subject text NOT NULL DEFAULT ''")
    op.execute("DROP INDEX uq_journey_entries_inside")
    op.execute(_INSIDE.format(subject=", subject"))


def downgrade() -> None:
    # Of several at once the first one goes on.
    op.execute(
        "UPDATE journey_entries e SET state = 'left', because = 'ended', phase = 'over', "
        "due = NULL WHERE e.state = 'inside' AND EXISTS (SELECT 1 FROM journey_entries o "
        "WHERE o.journey_id = e.journey_id AND o.contact_id = e.contact_id "
        "AND o.state = 'inside' AND o.id < e.id)"
    )
    op.execute("DROP INDEX uq_journey_entries_inside")
    op.execute(_INSIDE.format(subject=""))
    op.execute("ALTER TABLE journey_entries DROP COLUMN subject")
