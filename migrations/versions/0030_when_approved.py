"""When an edition was approved, which may be long after it was first sent.

Revision ID: 0030
Revises: 0029
"""

import sqlalchemy as sa
from alembic import op

revision = "0030"
down_revision = "0029"

#: The answer to the review is the approval's own record; where none is left, the edition's own
#: moment.
_FILLED = """UPDATE editions e SET approved_at = coalesce(
    (SELECT max(r.answered_at) FROM reviews r WHERE r.message_id = e.message_id
    AND r.state = 'approved' AND r.answered_at >= e.at
     AND NOT EXISTS (SELECT 1 FROM editions o WHERE o.message_id = e.message_id AND o.at > e.at
     AND o.at <= r.answered_at)), e.at)
WHERE e.approved_by <> ''"""


def upgrade() -> None:
    op.execute(sa.text("ALTER TABLE editions ADD COLUMN approved_at timestamptz"))
    op.execute(sa.text(_FILLED))
