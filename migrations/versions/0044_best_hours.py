"""Each person's best hour; people without room left out; a standing control group; only who still
is in the audience.

Revision ID: 0044
Revises: 0043
"""

from alembic import op

revision = "0044"
down_revision = "0043"

BEST_HOURS = """
CREATE TABLE best_hours (
    contact_id bigint NOT NULL CONSTRAINT pk_best_hours PRIMARY KEY
        CONSTRAINT fk_best_hours_contact_id_contacts REFERENCES contacts (id) ON DELETE CASCADE,
    hours smallint[] NOT NULL,
    known smallint NOT NULL
)
"""
HABITS = """
CREATE TABLE habits (
    id smallint NOT NULL CONSTRAINT pk_habits PRIMARY KEY CONSTRAINT ck_habits_one CHECK (id = 1),
    learnt_at timestamp with time zone NOT NULL,
    usual smallint[] NOT NULL,
    own integer NOT NULL,
    few integer NOT NULL,
    tested integer NOT NULL,
    single_hour smallint NOT NULL,
    single_share real NOT NULL,
    own_share real NOT NULL
)
"""
#: table → its new columns
COLUMNS = {
    "sends": (
        "best_hour boolean NOT NULL DEFAULT false",
        "no_room text NOT NULL DEFAULT 'wait'",
        "still_in boolean NOT NULL DEFAULT false",
    ),
    "dispatches": (
        "best_hour boolean NOT NULL DEFAULT false",
        "no_room text NOT NULL DEFAULT 'wait'",
        "still_in boolean NOT NULL DEFAULT false",
    ),
    "deliveries": ("hour smallint",),
    "sending_rules": (
        "held_out_percent real",
        "held_out_period text NOT NULL DEFAULT 'quarter'",
    ),
}
#: A delivery may also be kept back by the standing control group, for want of room, or because its
#: person is not in the audience any more.
OUTCOMES = """
ALTER TABLE deliveries DROP CONSTRAINT ck_deliveries_outcome;
ALTER TABLE deliveries ADD CONSTRAINT ck_deliveries_outcome CHECK (outcome IN ({outcomes}))
"""
BEFORE = (
    "waiting, in_hand, in_doubt, deferred, delivered, bounced, control, over_limit, duplicate, "
    "had_it, no_consent, suppressed, no_address, bad_address, bounced_before, not_rendered, quiet, "
    "late, stopped"
)
NEW = "held_out, no_room, left_audience"


def _outcomes(names: str) -> str:
    return OUTCOMES.format(outcomes=", ".join(f"'{name}'" for name in names.split(", ")))


def upgrade() -> None:
    op.execute(BEST_HOURS)
    op.execute(HABITS)
    for table, columns in COLUMNS.items():
        for column in columns:
            op.execute(f"ALTER TABLE {table} ADD COLUMN {column}")
    op.execute(_outcomes(f"{BEFORE}, {NEW}"))


def downgrade() -> None:
    op.execute(
        "UPDATE deliveries SET outcome = 'stopped' "
        f"WHERE outcome IN ({', '.join(repr(name) for name in NEW.split(', '))})"
    )
    op.execute(_outcomes(BEFORE))
    for table, columns in COLUMNS.items():
        for column in columns:
            op.execute(f"ALTER TABLE {table} DROP COLUMN {column.partition(' ')[0]}")
    op.execute("DROP TABLE habits")
    op.execute("DROP TABLE best_hours")
