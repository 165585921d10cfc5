"""A ceiling on the people a send reaches, and people kept back to compare with.

Revision ID: 0014
Revises: 0013
"""

from alembic import op

revision = "0014"
down_revision = "0013"


def upgrade() -> None:
    op.execute(
        "ALTER TABLE sends ADD COLUMN ceiling INTEGER CONSTRAINT ck_sends_ceiling CHECK (ceiling "
        "> 0), "
        "ADD COLUMN ceiling_rule TEXT NOT NULL DEFAULT 'some' CONSTRAINT ck_sends_ceiling_rule "
        "CHECK (ceiling_rule IN ('some', 'stop')), "
        "ADD COLUMN held JSONB NOT NULL DEFAULT '{}'"
    )
    op.execute("ALTER TABLE deliveries ADD COLUMN held BOOLEAN NOT NULL DEFAULT FALSE")
    op.execute("ALTER TABLE deliveries DROP CONSTRAINT ck_deliveries_outcome")
    op.execute(
        "ALTER TABLE deliveries ADD CONSTRAINT ck_deliveries_outcome CHECK (outcome IN "
        "('waiting', 'in_hand', 'in_doubt', "
        "'deferred', 'delivered', 'bounced', 'held_back', 'over_ceiling', 'duplicate', "
        "'no_consent', 'suppressed', 'no_address', "
        "'bad_address', 'bounced_before', 'not_rendered', 'stopped'))"
    )
