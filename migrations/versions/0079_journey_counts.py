"""How many people of a journey stand where, and went which way, is kept by the database: each
statement that moves people adds what it changed, and what was added is put together now and then.

Revision ID: 0079
Revises: 0078
"""

from alembic import op

revision = "0079"
down_revision = "0078"

_TABLES = (
    """
    CREATE TABLE journey_counts (
        journey_id bigint NOT NULL CONSTRAINT fk_journey_counts_journey_id_journeys
            REFERENCES journeys (id) ON DELETE CASCADE,
        lane text NOT NULL,
        start text NOT NULL,
        step text NOT NULL,
        state text NOT NULL,
        because text NOT NULL,
        people bigint NOT NULL,
        reached bigint NOT NULL,
        amount numeric NOT NULL
    )
    """,
    "CREATE INDEX ix_journey_counts_journey_id ON journey_counts (journey_id)",
    """
    CREATE TABLE journey_went (
        journey_id bigint NOT NULL CONSTRAINT fk_journey_went_journey_id_journeys
            REFERENCES journeys (id) ON DELETE CASCADE,
        step text NOT NULL,
        because text NOT NULL,
        people bigint NOT NULL,
        out bigint NOT NULL
    )
    """,
    "CREATE INDEX ix_journey_went_journey_id ON journey_went (journey_id)",
)
#: What one entry is counted under; whoever tries a journey is not.
_ONE = """
SELECT journey_id, lane, start, CASE state WHEN 'inside' THEN step ELSE '' END AS step, state,
    because, {sign} 1 AS people, {sign} (goal_at IS NOT NULL)::int AS reached,
    {sign} coalesce(goal_amount, 0) AS amount
FROM {rows} WHERE NOT tester
"""
_ADDED = """
INSERT INTO journey_counts (journey_id, lane, start, step, state, because, people, reached, amount)
SELECT journey_id, lane, start, step, state, because, sum(people), sum(reached), sum(amount)
FROM ({rows}) x GROUP BY 1, 2, 3, 4, 5, 6
HAVING sum(people) <> 0 OR sum(reached) <> 0 OR sum(amount) <> 0
"""
_COUNT = """
CREATE FUNCTION {name}() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    {added};
    RETURN NULL;
END $$
"""
#: A move is of whom it moved; whether they left before the end is known at the end of the
#: statement. One of nobody has no journey, which the table refuses.
_WENT = """
INSERT INTO journey_went (journey_id, step, because, people, out)
SELECT e.journey_id, m.from_step, m.because, count(*),
    count(*) FILTER (WHERE m.to_step = '' AND e.state = 'left')
FROM {rows} m LEFT JOIN journey_entries e ON e.id = m.entry_id
WHERE e.tester IS NOT TRUE GROUP BY 1, 2, 3
"""
_OF_ENTRIES = "fk_journey_moves_entry_id_journey_entries"
_FUNCTIONS = {
    "count_new_entries": _ADDED.format(rows=_ONE.format(sign="", rows="after")),
    # Nothing is counted of a journey that is gone with its entries.
    "count_gone_entries": _ADDED.format(
        rows=_ONE.format(sign="-", rows="before") + "AND journey_id IN (SELECT id FROM journeys)"
    )
    + ";\nDELETE FROM journey_moves m USING before b WHERE m.entry_id = b.id",
    "count_changed_entries": _ADDED.format(
        rows=_ONE.format(sign="", rows="after") + "UNION ALL" + _ONE.format(sign="-", rows="before")
    ),
    "count_moves": _WENT.format(rows="after"),
}
_TRIGGERS = (
    ("journey_entries", "count_new_entries", "INSERT", "NEW TABLE AS after"),
    ("journey_entries", "count_gone_entries", "DELETE", "OLD TABLE AS before"),
    (
        "journey_entries",
        "count_changed_entries",
        "UPDATE",
        "OLD TABLE AS before NEW TABLE AS after",
    ),
    ("journey_moves", "count_moves", "INSERT", "NEW TABLE AS after"),
)


def upgrade() -> None:
    for statement in _TABLES:
        op.execute(statement)
    op.execute(_ADDED.format(rows=_ONE.format(sign="", rows="journey_entries")))
    op.execute(_WENT.format(rows="journey_moves"))
    for name, added in _FUNCTIONS.items():
        op.execute(_COUNT.format(name=name, added=added))
    for table, name, event, rows in _TRIGGERS:
        op.execute(
            f"CREATE TRIGGER {name} AFTER {event} ON {table} REFERENCING {rows} "
            f"FOR EACH STATEMENT EXECUTE FUNCTION {name}()"
        )
    # That a move is of somebody is asked once for each statement now, where it is counted: row by
    # row it took a fifth of the time in which people go on.
    op.execute(f"ALTER TABLE journey_moves DROP CONSTRAINT {_OF_ENTRIES}")
    op.execute("DROP INDEX ix_journey_entries_step")
    op.execute(
        "CREATE INDEX ix_journey_entries_step ON journey_entries "
        "(journey_id, step, state, arrived_at)"
    )


def downgrade() -> None:
    op.execute("DROP INDEX ix_journey_entries_step")
    op.execute("CREATE INDEX ix_journey_entries_step ON journey_entries (journey_id, step, state)")
    op.execute(
        f"ALTER TABLE journey_moves ADD CONSTRAINT {_OF_ENTRIES} "
        "FOREIGN KEY (entry_id) REFERENCES journey_entries (id) ON DELETE CASCADE"
    )
    for table, name, _, _ in _TRIGGERS:
        op.execute(f"DROP TRIGGER {name} ON {table}")
        op.execute(f"DROP FUNCTION {name}")
    op.execute("DROP TABLE journey_went")
    op.execute("DROP TABLE journey_counts")
