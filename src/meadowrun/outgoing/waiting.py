"""What waits for somebody because of what is sent: people in doubt, and a part that does not go
on."""

import datetime as dt
import json
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Thing, owner_of
from meadowrun.core.language import Wording
from meadowrun.core.wording import number
from meadowrun.shell.accounts import may

#: Dispatches with people in doubt, and how many these are.
_DOUBTS = """
SELECT s.owner_kind, s.owner_id, s.name, d.people FROM dispatches s CROSS JOIN LATERAL (
    SELECT count(*) AS people FROM deliveries d WHERE d.dispatch_id = s.id
    AND d.taken_at = s.taken_at AND d.outcome = 'in_doubt') d
WHERE s.unsettled AND d.people > 0 ORDER BY s.id
"""
#: Notes for everybody who may settle it, and wishes to be told, what waits because of what is sent;
#: once for each. `paths` are those of
#: the owners, by dispatch.
_TELL = """INSERT INTO told (user_id, about, subject, body, path, at, next_at)
SELECT u.id, w.about, w.subject, w.body, CAST(:paths AS jsonb)->>w.id::text, :now, :now FROM (
    SELECT s.id, 'doubts:' || s.id || ':' || s.taken_at AS about,
    'People are in doubt in “' || s.name || '”' AS subject,
        'The answer of the gateway was lost for some of its people. '
        'Look, and decide what became of them.' AS body
    FROM dispatches s WHERE s.unsettled AND EXISTS (SELECT 1 FROM deliveries d
        WHERE d.dispatch_id = s.id AND d.taken_at = s.taken_at AND d.outcome = 'in_doubt')
    UNION ALL
    SELECT s.id, 'trouble:' || s.id || ':' || s.taken_at, '“' || s.name || '” does not go on',
        'A part of it failed again and again: ' || max(b.reason)
    FROM batches b JOIN dispatches s ON s.id = b.dispatch_id
    WHERE s.state IN ('running', 'paused') AND b.times >= :most GROUP BY s.id
) w CROSS JOIN users u WHERE u.told AND u.active AND u.role IN ('author', 'approver', 'admin')
ON CONFLICT (user_id, about) DO NOTHING"""


def doubts(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """What has people in doubt, for whoever may settle them."""
    if not may(who, "author"):
        return
    for kind, ident, name, people in session.execute(sa.text(_DOUBTS)):
        yield Thing(
            Wording.counted(
                "%(n)s person is in doubt in",
                "%(n)s people are in doubt in",
                people,
                n=number(people),
            ),
            name,
            owner_of(kind).doubts(ident),
            Wording("The answer of the gateway was lost. Look, and decide."),
        )


def tell(session: orm.Session, now: dt.datetime, most: int) -> None:
    """Has everybody told who wishes it that people are in doubt, or that a part of what is sent
    failed `most` times."""
    found = session.execute(
        sa.text("SELECT id, owner_kind, owner_id FROM dispatches WHERE unsettled")
    ).all()
    paths = {str(row.id): owner_of(row.owner_kind).path(row.owner_id) for row in found}
    session.execute(sa.text(_TELL), {"now": now, "most": most, "paths": json.dumps(paths)})
