"""What a website may not claim of its visitors by itself.

Revision ID: 0026
Revises: 0025
"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"


def upgrade() -> None:
    op.execute(
        sa.text("ALTER TABLE event_kinds ADD COLUMN by_website boolean NOT NULL DEFAULT true")
    )
