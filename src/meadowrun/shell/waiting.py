"""What waits for the person who is signed in: reviews asked of them, drafts sent back to them, and people in doubt."""

import dataclasses

import flask
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.shell.accounts import may
from meadowrun.shell.request import actor, db

_REVIEWS = """SELECT r.id, r.state, r.draft, r.asked_by, r.note, r.asked_at, r.answered_at, m.id AS message, m.name, u.name AS reviewer
FROM reviews r JOIN messages m ON m.id = r.message_id JOIN users u ON u.id = r.reviewer_id
WHERE r.state = 'asked' AND r.reviewer_id = :me
OR r.state = 'sent_back' AND r.asked_by = :name AND NOT EXISTS (
    SELECT 1 FROM reviews n WHERE n.message_id = r.message_id AND n.id > r.id)
ORDER BY r.asked_at"""
_DOUBTS = """SELECT s.id, s.name, d.people FROM sends s CROSS JOIN LATERAL (
    SELECT count(*) AS people FROM deliveries d WHERE d.send_id = s.id AND d.taken_at = s.taken_at AND d.outcome = 'in_doubt') d
WHERE s.open AND d.people > 0 ORDER BY s.id"""


@dataclasses.dataclass(frozen=True)
class Thing:
    """One thing to do: what is asked in words, of what, where it is done, and what was said about it."""

    what: str
    name: str
    to: str
    note: str = ""


def mine() -> list[Thing]:
    """What waits for whoever is signed in, asked once a request, by the pages that show it. Nothing while the database cannot be
    asked: a page that says so must not fail by this."""
    if "waits" not in flask.g:
        try:
            flask.g.waits = of(db(), actor()) if flask.g.get("user") else []
        except sa.exc.SQLAlchemyError:
            flask.g.waits = []
    found: list[Thing] = flask.g.waits
    return found


def of(session: orm.Session, who: Actor) -> list[Thing]:
    """Everything that waits for this person, the oldest first; doubts for whoever may settle them."""
    found = []
    for row in session.execute(sa.text(_REVIEWS), {"me": who.user_id, "name": who.name}):
        page = flask.url_for("review.show", ident=row.message)
        if row.state == "asked":
            found.append(Thing(f"{row.asked_by} asks you to read draft {row.draft} of", row.name, page))
        else:
            found.append(Thing(f"{row.reviewer} sent back draft {row.draft} of", row.name, page, row.note))
    if may(who, "author"):
        for ident, name, people in session.execute(sa.text(_DOUBTS)):
            whom = "1 person is" if people == 1 else f"{people:,} people are"
            found.append(Thing(f"{whom} in doubt in", name, flask.url_for("results.behind", ident=ident, what="in_doubt"),
                               "The answer of the gateway was lost. Look, and decide."))
    return found
