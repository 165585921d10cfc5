"""One switch that pauses all marketing; approval of a send by a second person.

Revision ID: 0042
Revises: 0041
"""

from alembic import op

revision = "0042"
down_revision = "0041"

RULES = """
CREATE TABLE sending_rules (
    id smallint NOT NULL CONSTRAINT pk_sending_rules PRIMARY KEY
        CONSTRAINT ck_sending_rules_one CHECK (id = 1),
    paused_at timestamp with time zone,
    paused_by text NOT NULL DEFAULT '',
    pauses_service boolean NOT NULL DEFAULT false,
    second_person_above integer
        CONSTRAINT ck_sending_rules_above CHECK (second_person_above >= 0)
)
"""


def upgrade() -> None:
    op.execute(RULES)
    op.execute("INSERT INTO sending_rules (id) VALUES (1)")
    op.execute(
        "ALTER TABLE sends ADD COLUMN asked_by_id bigint "
        "CONSTRAINT fk_sends_asked_by_id_users REFERENCES users (id) ON DELETE SET NULL, "
        "ADD COLUMN asked_by text NOT NULL DEFAULT '', "
        "ADD COLUMN asked_at timestamp with time zone, "
        "ADD COLUMN asked_version integer, "
        "ADD COLUMN asked_people integer, "
        "ADD COLUMN approved_by text NOT NULL DEFAULT '', "
        "ADD COLUMN refused_by text NOT NULL DEFAULT '', "
        "ADD COLUMN refused_why text NOT NULL DEFAULT ''"
    )


def downgrade() -> None:
    op.execute(
        "ALTER TABLE sends DROP COLUMN asked_by_id, DROP COLUMN asked_by, DROP COLUMN asked_at, "
        "DROP COLUMN asked_version, DROP COLUMN asked_people, DROP COLUMN approved_by, "
        "DROP COLUMN refused_by, DROP COLUMN refused_why"
    )
    op.execute("DROP TABLE sending_rules")
