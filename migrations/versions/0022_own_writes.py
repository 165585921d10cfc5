"""When each person or key last changed something: what was worked out before is not shown to them
as still true.

Revision ID: 0022
Revises: 0021
"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"


def upgrade() -> None:
    # Lost in a crash, it lets a number lag by some seconds once: no reason to write it to the log
    # of the database.
    op.execute(
        sa.text(
            "CREATE UNLOGGED TABLE own_writes (who text CONSTRAINT pk_own_writes PRIMARY "
            "KEY, at "
            "timestamptz NOT NULL)"
        )
    )
    # Programs change things by the thousand; what people did is found without reading past all of
    # that.
    op.execute(
        sa.text("CREATE INDEX ix_audit_people ON audit (at, id) WHERE who NOT LIKE 'API key %'")
    )
    # A page that was worked out behind its frame, for the browser that comes for it a moment later.
    op.execute(
        sa.text("""CREATE UNLOGGED TABLE later_pages (
        token text CONSTRAINT pk_later_pages PRIMARY KEY, user_id bigint NOT NULL,
        at timestamptz NOT NULL, html text NOT NULL)""")
    )
