"""What people write back can come to us first.

Revision ID: 0048
Revises: 0047
"""

from alembic import op

revision = "0048"
down_revision = "0047"


def upgrade() -> None:
    op.execute("ALTER TABLE sending_rules ADD COLUMN takes_mail boolean NOT NULL DEFAULT false")


def downgrade() -> None:
    op.execute("ALTER TABLE sending_rules DROP COLUMN takes_mail")
