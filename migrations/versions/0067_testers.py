"""People who try a journey: they walk it, and are kept out of all figures.

Revision ID: 0067
Revises: 0066
"""

from alembic import op

revision = "0067"
down_revision = "0066"


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE journey_testers (
            journey_id bigint NOT NULL REFERENCES journeys (id) ON DELETE CASCADE,
            contact_id bigint NOT NULL REFERENCES contacts (id) ON DELETE CASCADE,
            most_wait integer,
            by text NOT NULL,
            at timestamptz NOT NULL,
            PRIMARY KEY (journey_id, contact_id))
        """
    )
    op.execute("CREATE INDEX ix_journey_testers_contact ON journey_testers (contact_id)")
    op.execute("ALTER TABLE journey_entries ADD tester boolean NOT NULL DEFAULT FALSE")
    op.execute("ALTER TABLE journey_entries ADD most_wait integer")
    op.execute("ALTER TABLE journey_dispatches ADD tester boolean NOT NULL DEFAULT FALSE")


def downgrade() -> None:
    op.execute("ALTER TABLE journey_dispatches DROP tester")
    op.execute("ALTER TABLE journey_entries DROP most_wait")
    op.execute("ALTER TABLE journey_entries DROP tester")
    op.execute("DROP TABLE journey_testers")
