"""What topics are called, are about, and how often they come, in other languages.

Revision ID: 0077
Revises: 0076
"""

from alembic import op

revision = "0077"
down_revision = "0076"


def upgrade() -> None:
    op.execute("ALTER TABLE topics ADD COLUMN by_language jsonb NOT NULL DEFAULT '{}'")


def downgrade() -> None:
    op.execute("ALTER TABLE topics DROP COLUMN by_language")
