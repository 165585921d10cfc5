"""Keys of the API that are only exchanged for tokens of an hour.

Revision ID: 0031
Revises: 0030
"""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"


def upgrade() -> None:
    # What programs send now they still can.
    op.execute(sa.text("ALTER TABLE api_keys ADD COLUMN direct boolean NOT NULL DEFAULT true"))
