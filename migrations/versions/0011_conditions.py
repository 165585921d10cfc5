"""Conditions that words inside a text ask; one view of every definition in use, for “where used”.

Revision ID: 0011
Revises: 0010
"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"

STATEMENTS = (
    (
        'CREATE TABLE conditions (key TEXT COLLATE "C" CONSTRAINT pk_conditions PRIMARY KEY, lines '
        "JSONB NOT NULL)"
    ),
    # A text names a condition by its key, so what a message asks stands beside it.
    """CREATE VIEW definitions_in_use AS
        SELECT 'the segment' AS kind, name, definition AS lines FROM segments
        UNION ALL SELECT 'the partition', name, parts FROM partitions
        UNION ALL SELECT 'the message', name, document FROM messages
        UNION ALL SELECT 'the kept row', name, lines FROM kept_rows
        UNION ALL SELECT 'the message', m.name, c.lines FROM messages m
        JOIN conditions c ON strpos(m.document::text, 'when.' || c.key) > 0
        UNION ALL SELECT 'the kept row', r.name, c.lines FROM kept_rows r
        JOIN conditions c ON strpos(r.lines::text, 'when.' || c.key) > 0""",
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(sa.text(statement.replace(":", r"\:")))
