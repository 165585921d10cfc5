"""Who matches a condition, kept for a while and shared by every process; and a schema that holds
everything about a sample of people.

Revision ID: 0024
Revises: 0023
"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"

TABLES = """
CREATE TABLE kept_sets (
    key text PRIMARY KEY,
    -- what it is the answer to, and on which day: a line of a segment, everyone,
    -- or whom a channel reaches
    about jsonb NOT NULL,
    day date NOT NULL,
    -- what was committed before this moment is in it
    as_of timestamptz NOT NULL,
    asked_at timestamptz NOT NULL,
    -- the statement it was read with, and how many changes its tables had seen: both the same
    -- again, the answer is, too
    stamp text NOT NULL,
    changes bigint NOT NULL,
    seconds real NOT NULL,
    -- name → serialised roaring bitmap of contact numbers, in base64
    sets jsonb NOT NULL
);
CREATE INDEX ix_kept_sets_asked_at ON kept_sets (asked_at);
CREATE TABLE kept_answers (
    key text PRIMARY KEY,
    -- on the machine's clock, and as of when it is on the organisation's
    began_at timestamptz NOT NULL,
    as_of timestamptz NOT NULL,
    answer jsonb NOT NULL
);
-- Tables of the same names as in the public schema, with the rows of some people only; made and
-- filled by the worker.
CREATE SCHEMA sample;
CREATE TABLE sample.made (at timestamptz NOT NULL, people bigint NOT NULL, sampled bigint NOT NULL);
"""


def upgrade() -> None:
    op.execute(sa.text(TABLES))
