"""How fast a dispatch goes, what was foreseen of a send, and a pattern for the names of sends.

Revision ID: 0045
Revises: 0044
"""

from alembic import op

revision = "0045"
down_revision = "0044"

PACES = """
CREATE TABLE paces (
    dispatch_id bigint NOT NULL
        CONSTRAINT fk_paces_dispatch_id_dispatches REFERENCES dispatches (id) ON DELETE CASCADE,
    minute timestamp with time zone NOT NULL,
    domain text NOT NULL,
    handed integer NOT NULL,
    delayed integer NOT NULL,
    began timestamp with time zone NOT NULL,
    ended timestamp with time zone NOT NULL,
    CONSTRAINT pk_paces PRIMARY KEY (dispatch_id, minute, domain)
)
"""


def upgrade() -> None:
    op.execute(PACES)
    op.execute("ALTER TABLE sends ADD COLUMN foreseen jsonb NOT NULL DEFAULT '{}'")
    op.execute("ALTER TABLE sending_rules ADD COLUMN name_pattern text NOT NULL DEFAULT ''")


def downgrade() -> None:
    op.execute("ALTER TABLE sending_rules DROP COLUMN name_pattern")
    op.execute("ALTER TABLE sends DROP COLUMN foreseen")
    op.execute("DROP TABLE paces")
