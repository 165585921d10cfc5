"""Receipts of events by the senders' own ids: those that grow are stored side by side, and none is
a hash.

Revision ID: 0010
Revises: 0009
"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"

STATEMENTS = (
    # What was kept so far are hashes that cannot be read back.
    "DROP TABLE event_receipts",
    """CREATE TABLE event_receipts (
        key TEXT COLLATE "C" CONSTRAINT pk_event_receipts PRIMARY KEY,
        at TIMESTAMP WITH TIME ZONE NOT NULL DEFAULT now())""",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(sa.text(statement.replace(":", r"\:")))
