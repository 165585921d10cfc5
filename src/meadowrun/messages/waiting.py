"""Reviews that wait for somebody: asked of them, or sent back to them."""

from collections.abc import Iterator

import flask
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Thing
from meadowrun.core.language import Wording

#: Reviews asked of a colleague, and drafts of theirs that were sent back and not asked about since,
#: the oldest first.
_REVIEWS = """
SELECT r.id, r.state, r.draft, r.asked_by, r.note, r.asked_at, r.answered_at, m.id AS message,
m.name, u.name AS reviewer
FROM reviews r JOIN messages m ON m.id = r.message_id JOIN users u ON u.id = r.reviewer_id
WHERE r.state = 'asked' AND r.reviewer_id = :me
OR r.state = 'sent_back' AND r.asked_by = :name AND NOT EXISTS (
    SELECT 1 FROM reviews n WHERE n.message_id = r.message_id AND n.id > r.id)
ORDER BY r.asked_at
"""


def reviews(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """What this person is asked to read, and what was sent back to them."""
    for row in session.execute(sa.text(_REVIEWS), {"me": who.user_id, "name": who.name}):
        page = flask.url_for("review.show", ident=row.message)
        if row.state == "asked":
            yield Thing(
                Wording(
                    "%(asked_by)s asks you to read draft %(draft)s of",
                    asked_by=row.asked_by,
                    draft=row.draft,
                ),
                row.name,
                page,
            )
        else:
            yield Thing(
                Wording(
                    "%(reviewer)s sent back draft %(draft)s of",
                    reviewer=row.reviewer,
                    draft=row.draft,
                ),
                row.name,
                page,
                row.note,
            )
