"""Messages have a version that grows with every save; drafts can be named and are frozen when
somebody is asked to review them; a send says which state of its message it takes.

Revision ID: 0019
Revises: 0018
"""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"

STATEMENTS = """
ALTER TABLE messages ADD COLUMN version integer NOT NULL DEFAULT 1;
ALTER TABLE drafts ADD COLUMN name text NOT NULL DEFAULT '', ADD COLUMN frozen boolean NOT NULL
DEFAULT FALSE;
ALTER TABLE reviews ADD COLUMN content text NOT NULL DEFAULT '';
ALTER TABLE sends ADD COLUMN takes text NOT NULL DEFAULT 'approved'
    CONSTRAINT ck_sends_takes CHECK (takes IN ('approved', 'newest'));
UPDATE drafts d SET frozen = TRUE FROM reviews r WHERE r.message_id = d.message_id
AND r.draft = d.number;
ALTER TABLE campaigns ADD COLUMN version integer NOT NULL DEFAULT 1;
"""


def upgrade() -> None:
    op.execute(sa.text(STATEMENTS.replace(":", r"\:")))
