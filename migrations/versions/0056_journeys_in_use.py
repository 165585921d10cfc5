"""Journeys that have not ended name segments, lists, tags, messages and events, too.

Revision ID: 0056
Revises: 0055
"""

from alembic import op

revision = "0056"
down_revision = "0055"

_BEFORE = """
CREATE OR REPLACE VIEW definitions_in_use AS
    SELECT 'the segment' AS kind, name, definition AS lines FROM segments
    UNION ALL SELECT 'the grouping', name, groups FROM groupings
    UNION ALL SELECT 'the score', name, rules FROM scores
    UNION ALL SELECT 'the message', name, document FROM messages
    UNION ALL SELECT 'the shared part', name, lines FROM shared_parts
    UNION ALL SELECT 'the message', m.name, c.lines FROM messages m
    JOIN conditions c ON strpos(m.document::text, 'when.' || c.key) > 0
    UNION ALL SELECT 'the shared part', r.name, c.lines FROM shared_parts r
    JOIN conditions c ON strpos(r.lines::text, 'when.' || c.key) > 0
"""
#: As people walk them, and as they are being written.
_JOURNEYS = """
    UNION ALL SELECT 'the journey', j.name, e.itinerary FROM journeys j
    JOIN journey_editions e ON e.journey_id = j.id AND e.number = j.edition
    WHERE j.state <> 'ended'
    UNION ALL SELECT 'the journey', j.name, d.itinerary FROM journeys j
    JOIN journey_drafts d ON d.journey_id = j.id AND d.number = j.draft
    WHERE j.state <> 'ended'
"""


def upgrade() -> None:
    op.get_bind().exec_driver_sql(_BEFORE + _JOURNEYS)


def downgrade() -> None:
    op.get_bind().exec_driver_sql(_BEFORE)
