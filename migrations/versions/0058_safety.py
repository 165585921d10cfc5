"""When a journey pauses itself.

Revision ID: 0058
Revises: 0057
"""

from alembic import op

revision = "0058"
down_revision = "0057"


def upgrade() -> None:
    op.execute(
        "ALTER TABLE journeys ADD COLUMN most_bounces double precision DEFAULT 5, "
        "ADD COLUMN most_complaints double precision DEFAULT 0.3, "
        "ADD COLUMN most_an_hour integer, ADD COLUMN resumed_at timestamptz"
    )


def downgrade() -> None:
    op.execute(
        "ALTER TABLE journeys DROP COLUMN most_bounces, DROP COLUMN most_complaints, "
        "DROP COLUMN most_an_hour, DROP COLUMN resumed_at"
    )
