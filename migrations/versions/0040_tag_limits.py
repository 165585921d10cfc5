"""Message limits by tag; a dispatch knows its tags.

Revision ID: 0040
Revises: 0039
"""

from alembic import op

revision = "0040"
down_revision = "0039"

#: What was sent has the tags of its campaign and of its message.
OF_BEFORE = """
UPDATE dispatches s SET tags = ARRAY(SELECT DISTINCT t FROM unnest(m.tags || coalesce(c.tags, '{}'))
t ORDER BY t) FROM messages m LEFT JOIN campaigns c ON TRUE
WHERE m.id = s.message_id AND c.id = s.campaign_id
"""


def upgrade() -> None:
    op.execute("ALTER TABLE dispatches ADD COLUMN tags bigint[] NOT NULL DEFAULT '{}'")
    op.execute(OF_BEFORE)
    op.execute(
        "ALTER TABLE caps ADD COLUMN tag_id bigint "
        "CONSTRAINT fk_caps_tag_id_tags REFERENCES tags (id)"
    )
    op.execute("ALTER TABLE caps DROP CONSTRAINT uq_caps_channel")
    op.execute(
        "CREATE UNIQUE INDEX uq_caps_of ON caps (channel, coalesce(tag_id, 0), unit, length)"
    )


def downgrade() -> None:
    op.execute("DELETE FROM caps WHERE tag_id IS NOT NULL")
    op.execute("DROP INDEX uq_caps_of")
    op.execute("ALTER TABLE caps DROP COLUMN tag_id")
    op.execute("ALTER TABLE caps ADD CONSTRAINT uq_caps_channel UNIQUE (channel, unit, length)")
    op.execute("ALTER TABLE dispatches DROP COLUMN tags")
