"""Plain names for what a marketer works with: groupings with their groups, shared parts, in-app
messages, the audience limit and the control group; in tables and in what is stored as JSON.

Revision ID: 0034
Revises: 0033
"""

import sqlalchemy as sa
from alembic import op

revision = "0034"
down_revision = "0033"

TABLES = """
ALTER TABLE partitions RENAME TO groupings;
ALTER TABLE groupings RENAME COLUMN parts TO groups;
ALTER TABLE kept_rows RENAME TO shared_parts;
ALTER TABLE kept_row_versions RENAME TO shared_part_versions;
ALTER TABLE shared_part_versions RENAME COLUMN row_id TO part_id;
ALTER TABLE card_places RENAME TO in_app_places;
ALTER TABLE sends RENAME COLUMN ceiling TO audience_limit;
ALTER TABLE sends RENAME COLUMN ceiling_rule TO limit_rule;
ALTER TABLE sends RENAME COLUMN held TO control;
ALTER TABLE deliveries RENAME COLUMN held TO control;
ALTER TABLE sends RENAME CONSTRAINT ck_sends_ceiling TO ck_sends_audience_limit;
ALTER TABLE sends RENAME CONSTRAINT ck_sends_ceiling_rule TO ck_sends_limit_rule;
"""

#: Constraints, indexes and sequences are called after their tables.
CALLED_AFTER = """
DO $$
DECLARE
    pair text[];
    one record;
BEGIN
    FOREACH pair SLICE 1 IN ARRAY ARRAY[['partitions', 'groupings'], ['kept_rows', 'shared_parts'],
            ['kept_row_versions', 'shared_part_versions'], ['row_id', 'part_id'],
            ['card_places', 'in_app_places']] LOOP
        FOR one IN SELECT c.conrelid::regclass AS of, c.conname AS name FROM pg_constraint c
                WHERE c.connamespace = 'public'::regnamespace AND c.conparentid = 0
                AND c.conname LIKE '%' || pair[1] || '%' LOOP
            EXECUTE format('ALTER TABLE %s RENAME CONSTRAINT %I TO %I', one.of, one.name,
                replace(one.name, pair[1], pair[2]));
        END LOOP;
        FOR one IN SELECT c.relname AS name, c.relkind AS kind FROM pg_class c
                WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('i', 'S')
                AND c.relname LIKE '%' || pair[1] || '%' LOOP
            EXECUTE format('ALTER %s %I RENAME TO %I', CASE one.kind WHEN 'i' THEN 'INDEX'
                ELSE 'SEQUENCE' END, one.name, replace(one.name, pair[1], pair[2]));
        END LOOP;
    END LOOP;
END $$;
"""

#: What is stored as JSON, by keys and by values of keys. In the text of jsonb a key is always
#: followed by ": ", and quotes inside a text are escaped, so that nothing somebody wrote matches.
RENAMED = """
CREATE FUNCTION renamed(value jsonb) RETURNS jsonb LANGUAGE sql IMMUTABLE AS $$
    SELECT replace(replace(replace(replace(replace(replace(replace(replace(replace(
        regexp_replace(value::text, 'part[.]p([0-9]+) ==', 'group.g\\1 ==', 'g'),
        '"kind": "part", "part": ', '"kind": "grouping", "group": '),
        '"part": ', '"group": '),
        '"partition": ', '"grouping": '),
        '"type": "kept"', '"type": "shared"'),
        '"row": ', '"part": '),
        '"channel": "card"', '"channel": "in_app"'),
        '"card": ', '"in_app": '),
        '"card_places": ', '"in_app_places": '),
        '"left_cards": ', '"left_in_app_messages": ')::jsonb
$$;
"""

#: table → its columns of JSON in which any of that can stand
JSON = {
    "segments": ("definition",),
    "segment_versions": ("definition",),
    "groupings": ("groups",),
    "scores": ("rules",),
    "conditions": ("lines",),
    "messages": ("document",),
    "drafts": ("document",),
    "editions": ("document", "compiled"),
    "shared_parts": ("lines",),
    "shared_part_versions": ("lines",),
}

CHANNELS = """
UPDATE consents SET channel = 'in_app' WHERE channel = 'card';
UPDATE consent_changes SET channel = 'in_app' WHERE channel = 'card';
UPDATE messages SET channel = 'in_app' WHERE channel = 'card';
UPDATE dispatches SET channel = 'in_app' WHERE channel = 'card';
UPDATE audit SET object_kind = CASE object_kind WHEN 'partition' THEN 'grouping'
    ELSE 'shared part' END
WHERE object_kind IN ('partition', 'row');
UPDATE audit SET did = replace(did, 'took along', 'downloaded') WHERE did LIKE 'took along%';
"""

#: Outcomes, counts of them, what a message was filled in with, and the rows that a merge of two
#: contacts remembers.
OUTCOMES = """
ALTER TABLE deliveries DROP CONSTRAINT ck_deliveries_outcome;
UPDATE deliveries SET outcome = 'control' WHERE outcome = 'held_back';
UPDATE deliveries SET outcome = 'over_limit' WHERE outcome = 'over_ceiling';
ALTER TABLE deliveries ADD CONSTRAINT ck_deliveries_outcome CHECK (outcome IN ('waiting', 'in_hand',
    'in_doubt', 'deferred', 'delivered', 'bounced', 'control', 'over_limit', 'duplicate',
    'no_consent', 'suppressed', 'no_address', 'bad_address', 'bounced_before', 'not_rendered',
    'stopped'));
UPDATE deliveries SET filled = regexp_replace(filled::text, '"part[.]p([0-9]+)": ',
    '"group.g\\1": ', 'g')::jsonb
WHERE filled::text ~ '"part[.]p[0-9]';
UPDATE send_numbers SET numbers = replace(replace(replace(numbers::text,
    '"held_back": ', '"control": '), '"over_ceiling": ', '"over_limit": '),
    '"held_converted": ', '"control_converted": ')::jsonb;
UPDATE merges SET undo = replace(replace(replace(renamed(undo)::text,
    '"outcome": "held_back"', '"outcome": "control"'),
    '"outcome": "over_ceiling"', '"outcome": "over_limit"'),
    '"held": ', '"control": ')::jsonb;
"""

VIEW = """
CREATE OR REPLACE VIEW definitions_in_use AS
SELECT 'the segment' AS kind, name, definition AS lines FROM segments
UNION ALL SELECT 'the grouping', name, groups FROM groupings
UNION ALL SELECT 'the score', name, rules FROM scores
UNION ALL SELECT 'the message', name, document FROM messages
UNION ALL SELECT 'the shared part', name, lines FROM shared_parts
UNION ALL SELECT 'the message', m.name, c.lines FROM messages m
JOIN conditions c ON strpos(m.document::text, 'when.' || c.key) > 0
UNION ALL SELECT 'the shared part', r.name, c.lines FROM shared_parts r
JOIN conditions c ON strpos(r.lines::text, 'when.' || c.key) > 0
"""


def upgrade() -> None:
    # What was counted of definitions by their old names is counted again.
    op.execute("DELETE FROM kept_sets")
    for statement in (TABLES, CALLED_AFTER, RENAMED):
        op.execute(statement)
    for table, columns in JSON.items():
        sets = ", ".join(f"{column} = renamed({column})" for column in columns)
        changed = " OR ".join(f"{column} IS DISTINCT FROM renamed({column})" for column in columns)
        op.execute(sa.text(f"UPDATE {table} SET {sets} WHERE {changed}"))
    for statement in (CHANNELS, OUTCOMES, VIEW, "DROP FUNCTION renamed(jsonb)"):
        op.execute(statement)
