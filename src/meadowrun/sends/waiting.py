"""What waits for somebody because of a send: people in doubt, and a part that does not go on."""

import datetime as dt
from collections.abc import Iterator

import flask
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Thing
from meadowrun.shell.accounts import may

#: Sends with people in doubt, and how many these are.
_DOUBTS = """
SELECT s.id, s.name, d.people FROM sends s CROSS JOIN LATERAL (
    SELECT count(*) AS people FROM deliveries d WHERE d.send_id = s.id AND d.taken_at = s.taken_at AND d.outcome = 'in_doubt') d
WHERE s.open AND d.people > 0 ORDER BY s.id
"""
#: Notes for everybody who may settle it, and wishes to be told, what waits because of a send; once for each.
_TELL = """INSERT INTO told (user_id, about, subject, body, path, at, next_at)
SELECT u.id, w.about, w.subject, w.body, '/sends/' || w.id, :now, :now FROM (
    SELECT s.id, 'doubts:' || s.id || ':' || s.taken_at AS about, 'People are in doubt in “' || s.name || '”' AS subject,
        'The answer of the gateway was lost for some of its people. Look, and decide what became of them.' AS body
    FROM sends s WHERE s.open AND EXISTS (SELECT 1 FROM deliveries d
        WHERE d.send_id = s.id AND d.taken_at = s.taken_at AND d.outcome = 'in_doubt')
    UNION ALL
    SELECT s.id, 'trouble:' || s.id || ':' || s.taken_at, '“' || s.name || '” does not go on',
        'A part of it failed again and again: ' || max(t.reason)
    FROM send_troubles t JOIN sends s ON s.id = t.send_id WHERE s.state IN ('running', 'paused') AND t.times >= :most GROUP BY s.id
) w CROSS JOIN users u WHERE u.told AND u.active AND u.role IN ('author', 'approver', 'admin')
ON CONFLICT (user_id, about) DO NOTHING"""


def doubts(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """Sends with people in doubt, for whoever may settle them."""
    if not may(who, "author"):
        return
    for ident, name, people in session.execute(sa.text(_DOUBTS)):
        whom = "1 person is" if people == 1 else f"{people:,} people are"
        yield Thing(f"{whom} in doubt in", name, flask.url_for("results.behind", ident=ident, what="in_doubt"),
                    "The answer of the gateway was lost. Look, and decide.")


def tell(session: orm.Session, now: dt.datetime, most: int) -> None:
    """Has everybody told who wishes it that people of a send are in doubt, or that a part of it failed `most` times."""
    session.execute(sa.text(_TELL), {"now": now, "most": most})
