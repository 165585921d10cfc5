"""Sends that repeat: by which rule, when next, and which sends are dates of them.

Revision ID: 0039
Revises: 0038
"""

from alembic import op

revision = "0039"
down_revision = "0038"


def upgrade() -> None:
    op.execute(
        "ALTER TABLE sends ADD COLUMN rhythm text NOT NULL DEFAULT '', "
        "ADD COLUMN ends_empty boolean NOT NULL DEFAULT false, "
        "ADD COLUMN next_local timestamp without time zone, "
        "ADD COLUMN missed integer NOT NULL DEFAULT 0, "
        "ADD COLUMN repeats_id bigint CONSTRAINT fk_sends_repeats_id_sends REFERENCES sends (id)"
    )
    op.execute(
        "CREATE INDEX ix_sends_repeats_id ON sends (repeats_id) WHERE repeats_id IS NOT NULL"
    )


def downgrade() -> None:
    op.execute(
        "ALTER TABLE sends DROP COLUMN rhythm, DROP COLUMN ends_empty, DROP COLUMN next_local, "
        "DROP COLUMN missed, DROP COLUMN repeats_id"
    )
