"""Who waits for the answer of another server is found without looking at everybody; what it said
of somebody goes when they are erased.

Revision ID: 0059
Revises: 0058
"""

from alembic import op

revision = "0059"
down_revision = "0058"


_ERASED = """
CREATE OR REPLACE FUNCTION end_journeys_of_erased() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE journey_entries e SET state = 'left', because = 'erased', phase = 'over', due = NULL,
        step = '', ended_at = clock_timestamp(), details = NULL
    FROM gone g WHERE e.contact_id = g.id AND e.state = 'inside';{calls}
    RETURN NULL;
END $$
"""
_CALLS = """
    DELETE FROM journey_calls c USING journey_entries e, gone g
    WHERE e.id = c.entry_id AND e.contact_id = g.id;"""


def upgrade() -> None:
    op.execute(_ERASED.format(calls=_CALLS))
    op.execute(
        "CREATE INDEX ix_journey_entries_calling ON journey_entries (id) WHERE phase = 'calling'"
    )


def downgrade() -> None:
    op.execute(_ERASED.format(calls=""))
    op.execute("DROP INDEX ix_journey_entries_calling")
