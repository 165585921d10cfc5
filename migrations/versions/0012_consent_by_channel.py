"""What an import did to consent is kept for each channel.

Revision ID: 0012
Revises: 0011
"""

from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    for column in ("counts", "dry_counts"):
        op.execute(
            f"UPDATE imports SET {column} = {column} - 'agreed' || "
            f"jsonb_build_object('agreed_email', {column}->'agreed') "
            f"WHERE {column}->'agreed' IS NOT NULL"
        )
