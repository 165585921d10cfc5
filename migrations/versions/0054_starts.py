"""More that brings people into journeys and takes them out: what becomes true of them, and dates of
theirs. Waits are worked out again when what they go by changes.

Revision ID: 0054
Revises: 0053
"""

import json

import sqlalchemy as sa
from alembic import op

revision = "0054"
down_revision = "0053"

_TABLES = (
    """
    CREATE TABLE journey_watches (
        journey_id bigint CONSTRAINT pk_journey_watches PRIMARY KEY
            CONSTRAINT fk_journey_watches_journey_id_journeys
            REFERENCES journeys (id) ON DELETE CASCADE,
        stamp text NOT NULL,
        members bytea NOT NULL,
        looked_at timestamptz NOT NULL,
        seconds double precision NOT NULL
    )
    """,
    """
    CREATE TABLE journey_days (
        journey_id bigint NOT NULL CONSTRAINT fk_journey_days_journey_id_journeys
            REFERENCES journeys (id) ON DELETE CASCADE,
        zone text NOT NULL,
        day date NOT NULL,
        CONSTRAINT pk_journey_days PRIMARY KEY (journey_id, zone)
    )
    """,
)
#: Whoever waits is looked at again when their fields, their clock or their company changed.
_CHANGED = (
    """
    CREATE FUNCTION look_again_at_waits() RETURNS trigger LANGUAGE plpgsql AS $$
    BEGIN
        UPDATE journey_entries e SET due = e.arrived_at
        FROM before b JOIN after a ON a.id = b.id
        WHERE e.contact_id = a.id AND e.phase = 'waiting'
        AND (a.attributes, a.timezone, a.company_id)
            IS DISTINCT FROM (b.attributes, b.timezone, b.company_id);
        RETURN NULL;
    END $$
    """,
    """
    CREATE TRIGGER look_again_at_waits AFTER UPDATE ON contacts
    REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION look_again_at_waits()
    """,
    """
    CREATE FUNCTION look_again_at_waits_of_companies() RETURNS trigger LANGUAGE plpgsql AS $$
    BEGIN
        UPDATE journey_entries e SET due = e.arrived_at
        FROM before b JOIN after a ON a.id = b.id JOIN contacts c ON c.company_id = a.id
        WHERE e.contact_id = c.id AND e.phase = 'waiting'
        AND a.attributes IS DISTINCT FROM b.attributes;
        RETURN NULL;
    END $$
    """,
    """
    CREATE TRIGGER look_again_at_waits AFTER UPDATE ON companies
    REFERENCING OLD TABLE AS before NEW TABLE AS after
    FOR EACH STATEMENT EXECUTE FUNCTION look_again_at_waits_of_companies()
    """,
)


def upgrade() -> None:
    for statement in (*_TABLES, *_CHANGED):
        op.execute(statement)
    _rewrite(_newer)


def downgrade() -> None:
    _rewrite(_older)
    for table in ("companies", "contacts"):
        op.execute(f"DROP TRIGGER look_again_at_waits ON {table}")
    op.execute("DROP FUNCTION look_again_at_waits_of_companies")
    op.execute("DROP FUNCTION look_again_at_waits")
    op.execute("DROP TABLE journey_days")
    op.execute("DROP TABLE journey_watches")


def _rewrite(change):
    """Changes every itinerary that is kept."""
    connection = op.get_bind()
    for table in ("journey_drafts", "journey_editions"):
        kept = f"SELECT journey_id, number, itinerary FROM {table}"
        for journey, number, itinerary in connection.execute(sa.text(kept)).all():
            changed = json.dumps(change(itinerary))
            connection.execute(
                sa.text(
                    f"UPDATE {table} SET itinerary = CAST(:changed AS jsonb) "
                    "WHERE journey_id = :journey AND number = :number"
                ),
                {"changed": changed, "journey": journey, "number": number},
            )


def _newer(itinerary):
    start = itinerary.get("start") or {}
    segment, event = start.get("segment") or 0, start.get("event") or ""
    how = "event" if event else "everyone" if segment else ""
    return {
        **itinerary,
        "start": {"how": how, "event": event, "who": {"segment": segment, "lines": []}},
        "steps": _paths(itinerary.get("steps", []), _newer_path),
    }


def _newer_path(path):
    segment = path.pop("segment", 0)
    return {**path, "who": {"segment": segment, "lines": []}}


def _older(itinerary):
    start = itinerary.get("start") or {}
    who = start.get("who") or {}
    return {
        **itinerary,
        "start": {"event": start.get("event", ""), "segment": who.get("segment", 0)},
        "steps": _paths(itinerary.get("steps", []), _older_path),
    }


def _older_path(path):
    who = path.pop("who", None) or {}
    return {**path, "segment": who.get("segment", 0)}


def _paths(steps, change):
    """The same steps with every path changed."""
    found = []
    for step in steps:
        if "paths" in step:
            paths = [
                change({**path, "steps": _paths(path.get("steps", []), change)})
                for path in step["paths"]
            ]
            step = {**step, "paths": paths}
        found.append(step)
    return found
