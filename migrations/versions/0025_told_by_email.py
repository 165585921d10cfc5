"""Who wishes is told by email what waits for them.

Revision ID: 0025
Revises: 0024
"""

import sqlalchemy as sa
from alembic import op

revision = "0025"
down_revision = "0024"

TABLES = """
ALTER TABLE users ADD COLUMN told boolean NOT NULL DEFAULT false;
CREATE TABLE told (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    -- what it is about: nobody is told the same twice
    about text NOT NULL,
    subject text NOT NULL,
    body text NOT NULL,
    path text NOT NULL,
    at timestamptz NOT NULL,
    -- when it left, or was given up; when it is tried next, and how often it was
    done_at timestamptz,
    next_at timestamptz NOT NULL,
    tries smallint NOT NULL DEFAULT 0,
    CONSTRAINT uq_told_user_id_about UNIQUE (user_id, about)
);
CREATE INDEX ix_told_next_at ON told (next_at) WHERE done_at IS NULL;
"""


def upgrade() -> None:
    op.execute(sa.text(TABLES))
