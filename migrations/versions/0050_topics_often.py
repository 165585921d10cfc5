"""How often something of a topic comes.

Revision ID: 0050
Revises: 0049
"""

from alembic import op

revision = "0050"
down_revision = "0049"


def upgrade() -> None:
    op.execute("ALTER TABLE topics ADD COLUMN often text NOT NULL DEFAULT ''")


def downgrade() -> None:
    op.execute("ALTER TABLE topics DROP COLUMN often")
