"""What is done unusually often, and told to administrators: it may be somebody who has no business
here."""

import datetime as dt
from collections.abc import Iterator

import flask
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import clock
from meadowrun.base.audit import LOOKED, REFUSED, Actor
from meadowrun.base.manifest import Thing
from meadowrun.core.language import Wording
from meadowrun.shell import telling
from meadowrun.shell.accounts import may, people_who

#: Within an hour, by one person: contacts looked at, files of people downloaded; and by whomever:
#: refused sign-ins.
MOST_LOOKS, MOST_FILES, MOST_REFUSED = 150, 12, 60
#: Who did one of these oftener within the last hour: what, who, how often.
_OFTEN = """
SELECT 'looked at' AS what, who, count(DISTINCT object_id) AS times FROM audit
WHERE at > :since AND did = :looked GROUP BY who HAVING count(DISTINCT object_id) > :looks
UNION ALL
SELECT 'downloaded', who, count(*) FROM audit
WHERE at > :since AND did LIKE 'downloaded%' GROUP BY who HAVING count(*) > :files
UNION ALL
SELECT 'refused', '', count(*) FROM audit WHERE at > :since
AND did = :refused HAVING count(*) > :most_refused
"""


def of(session: orm.Session, now: dt.datetime) -> list[str]:
    """What was unusual in the last hour, in sentences."""
    rows = session.execute(
        sa.text(_OFTEN),
        {
            "since": now - dt.timedelta(hours=1),
            "looked": LOOKED,
            "refused": REFUSED,
            "looks": MOST_LOOKS,
            "files": MOST_FILES,
            "most_refused": MOST_REFUSED,
        },
    )
    said = {
        "looked at": Wording("{who} looked at {times} people within an hour"),
        "downloaded": Wording("{who} downloaded {times} files within an hour"),
        "refused": Wording("{times} sign-ins were refused within an hour"),
    }
    return [said[row.what].format(who=row.who, times=row.times) for row in rows]


def waits(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """The same as what waits for an administrator."""
    if may(who, "admin"):
        for sentence in of(session, clock.now(session)):
            yield Thing(
                Wording("Is this expected?"),
                sentence,
                flask.url_for("shell.changes", looks=1 if "looked" in sentence else None),
            )


def tell(session: orm.Session, now: dt.datetime) -> None:
    """Has every administrator told by email, once a day for each thing."""
    for sentence in of(session, now):
        for user in people_who(session, "admin"):
            # The number grows while it goes on; that is no news.
            about = "".join(sign for sign in sentence if not sign.isdigit())
            telling.tell_always(
                session,
                now,
                user.id,
                "Something unusual happened",
                f"{sentence}. Is that expected?",
                "/changes",
                f"unusual:{now:%Y-%m-%d}:{about}",
            )
