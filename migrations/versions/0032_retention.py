"""How long each kind of data is kept, where an administrator has said so.

Revision ID: 0032
Revises: 0031
"""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"


def upgrade() -> None:
    op.execute(
        sa.text("""CREATE TABLE retention (
        kind TEXT CONSTRAINT pk_retention PRIMARY KEY,
        months INTEGER NOT NULL,
        changed_at TIMESTAMP WITH TIME ZONE NOT NULL,
        changed_by TEXT NOT NULL,
        last_at TIMESTAMP WITH TIME ZONE,
        last_count BIGINT NOT NULL DEFAULT 0)""")
    )
