"""Whoever waits by their own wish or for their best hour is judged anew when their zone changes.

Revision ID: 0072
Revises: 0071
"""

from alembic import op

revision = "0072"
down_revision = "0071"

#: Whoever waits for a moment that a person's zone decides is judged anew when that is another.
ZONE_CHANGED = """
CREATE OR REPLACE FUNCTION judge_anew() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE deliveries d SET due = d.taken_at FROM dispatches s WHERE s.unsettled
    AND d.dispatch_id = s.id AND d.taken_at = s.taken_at AND d.contact_id = NEW.id
    AND d.outcome = 'waiting'
    AND d.stood_on->>'because' IN ({reasons});
    RETURN NULL;
END $$
"""
BEFORE = "'cap', 'hours', 'quiet_hours', 'own_clock', 'portion'"


def upgrade() -> None:
    op.execute(ZONE_CHANGED.format(reasons=f"{BEFORE}, 'own_limit', 'best_hour'"))


def downgrade() -> None:
    op.execute(ZONE_CHANGED.format(reasons=BEFORE))
