"""How fast emails leave: by the domain they go to, and from a domain that is new.

Revision ID: 0051
Revises: 0050
"""

from alembic import op

revision = "0051"
down_revision = "0050"


def upgrade() -> None:
    op.execute(
        """
        CREATE TABLE mail_speeds (
            domain text CONSTRAINT pk_mail_speeds PRIMARY KEY,
            per_hour integer,
            free_at timestamptz,
            planned_to timestamptz,
            delays smallint NOT NULL DEFAULT 0,
            not_before timestamptz,
            delayed_at timestamptz,
            CONSTRAINT ck_mail_speeds_per_hour CHECK (per_hour > 0)
        )
        """
    )
    op.execute(
        """
        CREATE TABLE warm_ups (
            domain text CONSTRAINT pk_warm_ups PRIMARY KEY,
            begins date NOT NULL,
            first_day integer NOT NULL,
            growth integer NOT NULL,
            until integer NOT NULL,
            changed_by text NOT NULL,
            changed_at timestamptz NOT NULL,
            CONSTRAINT ck_warm_ups_numbers CHECK (first_day > 0 AND growth > 0 AND until > 0)
        )
        """
    )
    op.execute(
        """
        CREATE TABLE warm_up_days (
            domain text NOT NULL REFERENCES warm_ups ON DELETE CASCADE,
            day date NOT NULL,
            left_so_far integer NOT NULL DEFAULT 0,
            planned integer NOT NULL DEFAULT 0,
            CONSTRAINT pk_warm_up_days PRIMARY KEY (domain, day)
        )
        """
    )
    op.execute("ALTER TABLE senders ADD COLUMN route text NOT NULL DEFAULT 'first'")


def downgrade() -> None:
    op.execute("ALTER TABLE senders DROP COLUMN route")
    for table in ("warm_up_days", "warm_ups", "mail_speeds"):
        op.execute(f"DROP TABLE {table}")
