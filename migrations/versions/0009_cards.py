"""In-app cards laid ready for people; phones among the devices that take notices.

Revision ID: 0009
Revises: 0008
"""

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"

STATEMENTS = (
    """CREATE TABLE card_places (
        contact_id BIGINT NOT NULL CONSTRAINT fk_card_places_contact_id REFERENCES contacts (id) ON
        DELETE CASCADE,
        send_id BIGINT NOT NULL CONSTRAINT fk_card_places_send_id REFERENCES sends (id) ON DELETE
        CASCADE,
        laid_at TIMESTAMP WITH TIME ZONE NOT NULL,
        times INTEGER NOT NULL DEFAULT 0,
        last_at TIMESTAMP WITH TIME ZONE,
        not_before TIMESTAMP WITH TIME ZONE,
        ended_at TIMESTAMP WITH TIME ZONE,
        outside INTEGER NOT NULL DEFAULT 0,
        overtaken BOOLEAN NOT NULL DEFAULT FALSE,
        put_off INTEGER NOT NULL DEFAULT 0,
        CONSTRAINT pk_card_places PRIMARY KEY (contact_id, send_id))""",
    "CREATE INDEX ix_card_places_send_id ON card_places (send_id)",
    "ALTER TABLE push_devices DROP CONSTRAINT ck_push_devices_kind",
    "UPDATE push_devices SET kind = 'web'",
    (
        "ALTER TABLE push_devices ADD CONSTRAINT ck_push_devices_kind CHECK (kind IN ('web', "
        "'android', 'ios'))"
    ),
)


def upgrade() -> None:
    for statement in STATEMENTS:
        op.execute(sa.text(statement.replace(":", r"\:")))
