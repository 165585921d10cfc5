"""A journey can have several starts; what they saw is kept by start.

Revision ID: 0063
Revises: 0062
"""

from alembic import op

revision = "0063"
down_revision = "0062"

#: The start that a journey had becomes the only one of several, called “start”.
_SEVERAL = """
UPDATE {table} SET itinerary = (itinerary - 'start') || jsonb_build_object(
    'subject', coalesce(itinerary #>> '{{start,subject}}', ''),
    'starts', CASE WHEN coalesce(itinerary #>> '{{start,how}}', '') = '' THEN '[]'::jsonb
        ELSE jsonb_build_array((itinerary -> 'start') - 'subject' || '{{"id": "start"}}') END)
"""
#: The first start is the only one again.
_ONE = """
UPDATE {table} SET itinerary = (itinerary - 'starts' - 'subject') || jsonb_build_object(
    'start', coalesce((itinerary #> '{{starts,0}}') - 'id', '{{"how": ""}}'::jsonb)
        || jsonb_build_object('subject', coalesce(itinerary ->> 'subject', '')))
"""
_KEY = "ALTER TABLE journey_days ADD CONSTRAINT pk_journey_days PRIMARY KEY ({of})"


def upgrade() -> None:
    for table in ("journey_drafts", "journey_editions"):
        op.execute(_SEVERAL.format(table=table))
    op.execute("ALTER TABLE journey_entries ADD COLUMN start text NOT NULL DEFAULT ''")
    op.execute("""
        UPDATE journey_entries e SET start = 'start' FROM journey_moves m
        WHERE m.entry_id = e.id AND m.from_step = '' AND m.because = 'start'
    """)
    op.execute("""
        CREATE TABLE journey_seen (
            journey_id bigint NOT NULL CONSTRAINT fk_journey_seen_journey_id_journeys
                REFERENCES journeys (id) ON DELETE CASCADE,
            start text NOT NULL,
            stamp text NOT NULL,
            members bytea NOT NULL,
            CONSTRAINT pk_journey_seen PRIMARY KEY (journey_id, start)
        )
    """)
    op.execute("""
        INSERT INTO journey_seen (journey_id, start, stamp, members)
        SELECT journey_id, 'start', stamp, members FROM journey_watches
        WHERE stamp <> '' AND stamp NOT LIKE '!%'
    """)
    op.execute("ALTER TABLE journey_watches ADD COLUMN problem text NOT NULL DEFAULT ''")
    op.execute("UPDATE journey_watches SET problem = substr(stamp, 2) WHERE stamp LIKE '!%'")
    op.execute("ALTER TABLE journey_watches DROP COLUMN stamp, DROP COLUMN members")
    op.execute("ALTER TABLE journey_days ADD COLUMN start text NOT NULL DEFAULT 'start'")
    op.execute("ALTER TABLE journey_days ALTER COLUMN start DROP DEFAULT")
    op.execute("ALTER TABLE journey_days DROP CONSTRAINT pk_journey_days")
    op.execute(_KEY.format(of="journey_id, start, zone"))


def downgrade() -> None:
    op.execute("DELETE FROM journey_days WHERE start <> 'start'")
    op.execute("ALTER TABLE journey_days DROP CONSTRAINT pk_journey_days")
    op.execute("ALTER TABLE journey_days DROP COLUMN start")
    op.execute(_KEY.format(of="journey_id, zone"))
    op.execute("""
        ALTER TABLE journey_watches ADD COLUMN stamp text NOT NULL DEFAULT '',
            ADD COLUMN members bytea NOT NULL DEFAULT ''
    """)
    op.execute("ALTER TABLE journey_watches ALTER COLUMN stamp DROP DEFAULT")
    op.execute("ALTER TABLE journey_watches ALTER COLUMN members DROP DEFAULT")
    op.execute("ALTER TABLE journey_watches DROP COLUMN problem")
    op.execute("DROP TABLE journey_seen")
    op.execute("ALTER TABLE journey_entries DROP COLUMN start")
    for table in ("journey_drafts", "journey_editions"):
        op.execute(_ONE.format(table=table))
