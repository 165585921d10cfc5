"""Each link of an email carries a token for its own purpose.

Revision ID: 0028
Revises: 0027
"""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"

#: The path before a token in what was compiled → what the token is for.
PLACES = {"o": "open", "c": "click", "u": "leave", "p": "choose", "n": "page"}
REPLACE = """
UPDATE editions SET compiled = replace(compiled::text, :before, :after)::jsonb
WHERE strpos(compiled::text, :before) > 0
"""


def upgrade() -> None:
    for path, purpose in PLACES.items():
        op.get_bind().execute(
            sa.text(REPLACE),
            {"before": f"/{path}/{{{{ token }}}}", "after": f"/{path}/{{{{ token.{purpose} }}}}"},
        )
