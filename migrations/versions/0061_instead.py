"""A message step can try several messages in turn; a share of a journey's people are its control
group.

Revision ID: 0061
Revises: 0060
"""

from alembic import op

revision = "0061"
down_revision = "0060"


def upgrade() -> None:
    op.execute("ALTER TABLE journey_entries ADD COLUMN attempt smallint NOT NULL DEFAULT 0")
    op.execute("ALTER TABLE journey_entries ADD COLUMN control boolean NOT NULL DEFAULT false")


def downgrade() -> None:
    op.execute("ALTER TABLE journey_entries DROP COLUMN control")
    op.execute("ALTER TABLE journey_entries DROP COLUMN attempt")
