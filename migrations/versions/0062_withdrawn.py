"""Who withdrew consent lately is found at once.

Revision ID: 0062
Revises: 0061
"""

from alembic import op

revision = "0062"
down_revision = "0061"


def upgrade() -> None:
    op.execute("CREATE INDEX ix_consents_withdrawn ON consents (at) WHERE NOT agreed")


def downgrade() -> None:
    op.execute("DROP INDEX ix_consents_withdrawn")
