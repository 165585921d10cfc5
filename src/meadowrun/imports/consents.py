"""What an import says of consent: who agreed with it, and who said no."""

import dataclasses
import datetime as dt
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import rows_changed
from meadowrun.core.people_file import SAID, Plan
from meadowrun.people.queries import NUMBER

_COLUMNS = "contact_id, channel, topic_id, agreed, at, how"
#: One question each for address and domain: asked together they could not be hashed.
_EMAIL_FREE = """NOT EXISTS (SELECT 1 FROM suppressions x WHERE x.address_key = s.email_key)
AND NOT EXISTS (
    SELECT 1 FROM suppressions x WHERE x.address_key = '@' || split_part(s.email_key, '@', 2))"""
_NUMBER_FREE = f"""NOT EXISTS (
    SELECT 1 FROM suppressions x WHERE x.address_key = {NUMBER.replace("c.", "s.")})"""
#: Who never said anything of a channel, as a whole or of the topic.
_UNSAID = """NOT EXISTS (SELECT 1 FROM consents k WHERE k.contact_id = s.contact_id
AND k.channel = :channel AND k.topic_id IN (0, :topic))"""
#: A yes of those of a file whom two conditions choose.
AGREED = f"""INSERT INTO consents ({_COLUMNS})
SELECT s.contact_id, :channel, :topic, true, :now, :how FROM staged s WHERE {{who}} AND {{free}}"""
#: A no of those of a file of whom a column says it, of refused rows too if their person is known;
#: it takes back an earlier yes.
DECLINED = f"""INSERT INTO consents ({_COLUMNS})
SELECT n.contact_id, :channel, :topic, false, :now, :how FROM (
    SELECT s.contact_id FROM staged s WHERE NOT s.{{column}}
    UNION SELECT min(c.id) FROM contacts c WHERE c.{{key}} = ANY(:who) GROUP BY c.{{key}}) n
ON CONFLICT (contact_id, channel, topic_id) DO UPDATE
SET agreed = false, at = excluded.at, how = excluded.how WHERE consents.agreed"""
#: Writes consents, and into their history what really changed.
WRITTEN = f"""WITH said AS ({{statement}} RETURNING {_COLUMNS})
INSERT INTO consent_changes ({_COLUMNS}) SELECT {_COLUMNS} FROM said"""


@dataclasses.dataclass(frozen=True, slots=True)
class Brought:
    """How a file brings consent to one channel: who is new to it, whose address is suppressed by
    nobody, in SQL over the staged rows `s`, and whether the plan's topics are of this channel."""

    newcomers: str
    free: str
    topics: bool = False


#: channel → how a file brings consent to it; each has a column of its own among the staged rows
BROUGHT = {
    "email": Brought("s.is_new", _EMAIL_FREE, topics=True),
    "sms": Brought("s.is_new AND s.phone IS NOT NULL", _NUMBER_FREE),
}
assert set(BROUGHT) == set(SAID.values())


@dataclasses.dataclass(frozen=True, slots=True)
class Staged:
    """The staged rows of an import: what its plan says, when, of which file, and the column that
    people are known by."""

    plan: Plan
    now: dt.datetime
    file_name: str
    key: str


def agreed(session: orm.Session, staged: Staged, channel: str) -> int:
    """Writes who agrees, with the evidence: every newcomer, or those of whom a column says so and
    who never said anything else. Suppressed ones stay out. Says how many agreed to the channel as
    a whole."""
    brought, plan = BROUGHT[channel], staged.plan
    said = {"newcomers": brought.newcomers, "column": f"s.said_{channel}"}
    who = said.get(plan.agreeing(channel))
    if who is None:
        return 0
    free = brought.free if who == brought.newcomers else f"{brought.free} AND {_UNSAID}"
    how = f"{plan.consent} (import of {staged.file_name})"
    count = 0
    # All of the channel last: whether somebody had said anything is asked of it.
    for topic in sorted(plan.topics, reverse=True) if brought.topics else [0]:
        count = _write(session, staged, AGREED.format(who=who, free=free), channel, topic, how)
    return count


def declined(session: orm.Session, staged: Staged, channel: str, refused: Sequence[str]) -> int:
    """Writes of whom a column says that they said no: it counts, also against an earlier yes, and
    for the people of `refused` rows, given by what they are known by. Says how many."""
    if staged.plan.agreeing(channel) != "column":
        return 0
    statement = DECLINED.format(column=f"said_{channel}", key=staged.key)
    how = f"a no in the file {staged.file_name}"
    return _write(session, staged, statement, channel, 0, how, who=list(refused))


def _write(
    session: orm.Session,
    staged: Staged,
    statement: str,
    channel: str,
    topic: int,
    how: str,
    **more: Any,
) -> int:
    """Writes consents and their history; says how many changed."""
    done = session.execute(
        sa.text(WRITTEN.format(statement=statement)),
        {"channel": channel, "topic": topic, "now": staged.now, "how": how, **more},
    )
    return rows_changed(done)
