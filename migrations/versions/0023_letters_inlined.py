"""Letters are compared inside the statement itself: a function that is declared strict and holds a
CASE is called for every row instead.

Revision ID: 0023
Revises: 0022
"""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"

#: What they answer stays the same, also to nothing: `letters_wide` and `normalize` are strict
#: themselves.
FUNCTIONS = """
CREATE OR REPLACE FUNCTION letters(text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE WHEN octet_length($1) = char_length($1) THEN lower($1 COLLATE "C")
    ELSE letters_wide($1) END $$;
CREATE OR REPLACE FUNCTION composed(text) RETURNS text LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    SELECT CASE WHEN octet_length($1) = char_length($1) THEN $1 ELSE normalize($1, NFC) END $$;
"""


def upgrade() -> None:
    op.execute(sa.text(FUNCTIONS))
