"""Addresses by which somebody's own calendar program reads ours.

Revision ID: 0041
Revises: 0040
"""

from alembic import op

revision = "0041"
down_revision = "0040"

FEEDS = """
CREATE TABLE calendar_feeds (
    user_id bigint NOT NULL CONSTRAINT pk_calendar_feeds PRIMARY KEY
        CONSTRAINT fk_calendar_feeds_user_id_users REFERENCES users (id) ON DELETE CASCADE,
    token_hash text NOT NULL CONSTRAINT uq_calendar_feeds_token_hash UNIQUE,
    made_at timestamp with time zone NOT NULL,
    read_at timestamp with time zone
)
"""


def upgrade() -> None:
    op.execute(FEEDS)


def downgrade() -> None:
    op.execute("DROP TABLE calendar_feeds")
