"""A sign-in that nobody uses ends.

Revision ID: 0027
Revises: 0026
"""

import sqlalchemy as sa
from alembic import op

revision = "0027"
down_revision = "0026"


def upgrade() -> None:
    op.execute(
        sa.text("ALTER TABLE sign_ins ADD COLUMN seen_at timestamptz NOT NULL DEFAULT now()")
    )
