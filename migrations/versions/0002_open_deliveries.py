"""The index of a send's deliveries leads by outcome: what is still open is found without passing
what is done.

Revision ID: 0002
Revises: 0001
"""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.execute(sa.text("DROP INDEX ix_deliveries_send"))
    op.execute(sa.text("CREATE INDEX ix_deliveries_send ON deliveries (send_id, outcome, chunk)"))
