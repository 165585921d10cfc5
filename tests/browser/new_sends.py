"""Sends of a test's own in the running demo: which of the demo's are left depends on the tests that
ran before."""

import sqlalchemy as sa

EVERYBODY = '{"in": [{"everyone": true}], "out": []}'
LIKE_THE_FIRST = """
INSERT INTO sends (campaign_id, message_id, sender_id, zone, success_days, created_at, changed_at,
                   name, state, audience, leaves_at, begins_at)
SELECT campaign_id, message_id, sender_id, zone, success_days, created_at, changed_at,
       :name, :state, CAST(:audience AS jsonb), :at, :at
FROM sends WHERE message_id IS NOT NULL ORDER BY id LIMIT 1
RETURNING id
"""


def make(session, name, state="draft", at=None):
    """The number of a new send to everybody, with the message and sender of the demo's first."""
    return session.execute(
        sa.text(LIKE_THE_FIRST),
        {"name": name, "state": state, "at": at, "audience": EVERYBODY},
    ).scalar_one()


def delete(session, idents):
    session.execute(sa.text("DELETE FROM sends WHERE id = ANY(:ids)"), {"ids": list(idents)})
