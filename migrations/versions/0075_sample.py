"""A sample campaign to learn on, and what belongs to it.

Revision ID: 0075
Revises: 0074
"""

from alembic import op

revision = "0075"
down_revision = "0074"


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE sample (
            id smallint PRIMARY KEY DEFAULT 1 CHECK (id = 1),
            people bigint[] NOT NULL,
            list_id bigint REFERENCES lists ON DELETE SET NULL,
            segment_id bigint REFERENCES segments ON DELETE SET NULL,
            invitation_id bigint REFERENCES messages ON DELETE SET NULL,
            reminder_id bigint REFERENCES messages ON DELETE SET NULL,
            campaign_id bigint REFERENCES campaigns ON DELETE SET NULL,
            send_id bigint REFERENCES sends ON DELETE SET NULL,
            journey_id bigint REFERENCES journeys ON DELETE SET NULL,
            made_at timestamptz NOT NULL,
            made_by text NOT NULL
        )
        """
    )


def downgrade() -> None:
    op.execute("DROP TABLE sample")
