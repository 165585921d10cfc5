"""What each colleague has chosen to see, such as the columns of a table.

Revision ID: 0069
Revises: 0068
"""

from alembic import op

revision = "0069"
down_revision = "0068"


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE choices (
            user_id bigint NOT NULL REFERENCES users (id) ON DELETE CASCADE,
            name text NOT NULL,
            value jsonb NOT NULL,
            PRIMARY KEY (user_id, name))
        """
    )


def downgrade() -> None:
    op.execute("DROP TABLE choices")
