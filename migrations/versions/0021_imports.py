"""Imports guess the sort of each column from many rows, and list cells that were left out beside
rows that were refused.

Revision ID: 0021
Revises: 0020
"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    op.execute(sa.text("ALTER TABLE imports ADD COLUMN types text[] NOT NULL DEFAULT '{}'"))
    op.execute(
        sa.text("ALTER TABLE import_refusals ADD COLUMN taken boolean NOT NULL DEFAULT FALSE")
    )
