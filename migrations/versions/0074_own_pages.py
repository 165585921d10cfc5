"""The house style knows the organisation's pages elsewhere, for icons.

Revision ID: 0074
Revises: 0073
"""

from alembic import op

revision = "0074"
down_revision = "0073"


def upgrade() -> None:
    op.execute("ALTER TABLE house_style ADD COLUMN pages jsonb NOT NULL DEFAULT '[]'")


def downgrade() -> None:
    op.execute("ALTER TABLE house_style DROP COLUMN pages")
