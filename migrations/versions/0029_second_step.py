"""A second step at sign-in, recovery codes, and keys of the API that may do some things only and
end.

Revision ID: 0029
Revises: 0028
"""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"


def upgrade() -> None:
    op.execute(
        sa.text("ALTER TABLE users ADD COLUMN second_step text, ADD COLUMN second_step_used bigint")
    )
    op.execute(
        sa.text(
            "ALTER TABLE sign_ins ADD COLUMN halfway boolean NOT NULL DEFAULT false, "
            "ADD COLUMN place text NOT NULL DEFAULT ''"
        )
    )
    op.execute(
        sa.text(
            "CREATE TABLE recovery_codes (code_hash text PRIMARY KEY, "
            "user_id bigint NOT NULL REFERENCES users (id) ON DELETE CASCADE)"
        )
    )
    op.execute(sa.text("CREATE INDEX ix_recovery_codes_user_id ON recovery_codes (user_id)"))
    # What keys could do so far, they still can.
    op.execute(
        sa.text(
            "ALTER TABLE api_keys ADD COLUMN may text[] NOT NULL DEFAULT "
            "'{read,people,events,segments,fields,erase}', ADD COLUMN ends_at timestamptz"
        )
    )
