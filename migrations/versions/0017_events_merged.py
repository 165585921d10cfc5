"""Other keys by which a kind of event still comes in, after two were made one.

Revision ID: 0017
Revises: 0016
"""

from alembic import op

revision = "0017"
down_revision = "0016"


def upgrade() -> None:
    op.execute("ALTER TABLE event_kinds ADD COLUMN aka TEXT[] NOT NULL DEFAULT '{}'")
