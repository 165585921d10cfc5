"""Who may get a send: those who agreed, those who did not say no, or everyone since it is about
something of theirs.

Revision ID: 0013
Revises: 0012
"""

from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.execute(
        "ALTER TABLE sends ADD COLUMN consent_rule TEXT NOT NULL DEFAULT 'agreed' CONSTRAINT "
        "ck_sends_consent_rule "
        "CHECK (consent_rule IN ('agreed', 'not_refused', 'service'))"
    )
