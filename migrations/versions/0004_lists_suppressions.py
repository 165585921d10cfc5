"""Lists remember the segment they were frozen from; suppressions may end, and may be of a whole
domain ("@domain").

Revision ID: 0004
Revises: 0003
"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    op.execute(
        sa.text(
            "ALTER TABLE lists ADD COLUMN segment_id BIGINT CONSTRAINT fk_lists_segment_id "
            "REFERENCES segments (id) "
            "ON DELETE SET NULL"
        )
    )
    op.execute(sa.text("ALTER TABLE suppressions ADD COLUMN until TIMESTAMP WITH TIME ZONE"))
    op.execute(
        sa.text(
            "CREATE INDEX ix_suppressions_until ON suppressions (until) WHERE until IS NOT NULL"
        )
    )
