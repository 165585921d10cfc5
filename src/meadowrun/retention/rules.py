"""The kinds of data that are not kept for ever: for how long, and how what is older is found and
deleted.

Consent and its history, suppressions, what was sent to whom and who reacted are not among them:
they prove what was agreed to, keep promises, and past results stay what they were.
"""

import calendar
import dataclasses
import datetime as dt
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording
from meadowrun.people.wholly import erase
from meadowrun.retention.models import Retention

#: Months that can be chosen; 0: for ever.
MONTHS = (1, 3, 6, 12, 24, 36, 60, 120, 0)
#: Rows that one step deletes, so that nobody waits for it.
BATCH = 5_000
#: People that one night erases at most: each takes a look at all that is known of them.
PEOPLE_A_NIGHT = 2_000
#: The hour on the organisation's clock at which a night's deleting begins.
NIGHT_BEGINS = 3
#: The row that notes when that was last done.
_ASKED = "night"
NIGHT = Actor(None, "Retention", "admin")


@dataclasses.dataclass(frozen=True)
class Rule:
    """One kind of data. `count` gives how many rows are older than :before; `delete` deletes at
    most :most of each table and gives how many those were; for people it gives their numbers
    instead."""

    kind: str
    name: str
    #: what goes, and what is no longer possible then
    means: str
    #: months it is kept where nobody has said otherwise; 0: for ever
    months: int
    count: str
    delete: str


#: Finished imports. Their files go with them.
_IMPORTS = (
    "imports i WHERE i.state IN ('done', 'failed') AND coalesce(i.finished_at, "
    "i.created_at) < :before"
)
#: Deliveries whose fate is settled for good.
_FILLED = """deliveries d WHERE d.taken_at < :before AND (d.filled IS NOT NULL
OR d.address IS NOT NULL)
AND d.outcome NOT IN ('waiting', 'in_hand', 'in_doubt', 'deferred')"""
#: People who agreed to nothing that still stands, and of whom nothing was heard since.
_SILENT = """contacts c WHERE c.created_at < :before AND c.updated_at < :before
AND NOT EXISTS (SELECT 1 FROM consents o WHERE o.contact_id = c.id AND o.agreed)
AND NOT EXISTS (SELECT 1 FROM consent_changes h WHERE h.contact_id = c.id AND h.at >= :before)
AND NOT EXISTS (SELECT 1 FROM events e WHERE e.contact_id = c.id AND e.at >= :before)
AND NOT EXISTS (SELECT 1 FROM reactions r WHERE r.contact_id = c.id AND r.at >= :before
AND NOT r.machine)"""

RULES: dict[str, Rule] = {
    rule.kind: rule
    for rule in (
        Rule(
            "imports",
            Wording("Imported files"),
            Wording("the files that were imported, and their rejected rows; the people stay"),
            3,
            f"SELECT count(*) FROM {_IMPORTS}",
            f"""WITH old AS (DELETE FROM imports WHERE id IN (SELECT i.id FROM {_IMPORTS}
ORDER BY i.id
LIMIT :most) RETURNING file_id),
files AS (DELETE FROM files f USING old WHERE f.id = old.file_id RETURNING 1) SELECT count(*)
FROM old""",
        ),
        Rule(
            "filled",
            Wording("Exact messages"),
            Wording(
                "what each person’s message was filled in with, and the address it went to: "
                "it can no longer be shown as they got it"
            ),
            24,
            f"SELECT count(*) FROM {_FILLED}",
            f"""WITH old AS (SELECT d.dispatch_id, d.contact_id, d.occurrence, d.taken_at
FROM {_FILLED}
LIMIT :most),
gone AS (UPDATE deliveries d SET filled = NULL, address = NULL FROM old
          WHERE (d.contact_id, d.dispatch_id, d.occurrence, d.taken_at) = (old.contact_id,
          old.dispatch_id, old.occurrence, old.taken_at) RETURNING 1)
SELECT count(*) FROM gone""",
        ),
        Rule(
            "events",
            Wording("What people did"),
            Wording(
                "events, such as tickets bought and pages seen: segments and scores no longer "
                "know of them"
            ),
            0,
            "SELECT count(*) FROM events e WHERE e.at < :before",
            """WITH old AS (SELECT e.ctid AS place, e.tableoid AS part, e.at FROM events e
WHERE e.at < :before LIMIT :most),
gone AS (DELETE FROM events e USING old WHERE e.ctid = old.place AND e.tableoid = old.part
AND e.at = old.at RETURNING 1)
SELECT count(*) FROM gone""",
        ),
        Rule(
            "people",
            Wording("People without consent"),
            Wording("people without any consent who have not been heard of since: they are erased"),
            0,
            f"SELECT count(*) FROM {_SILENT}",
            f"SELECT c.id FROM {_SILENT} ORDER BY c.id LIMIT :most",
        ),
        Rule(
            "audit",
            Wording("Who changed what"),
            Wording("who changed what, and whose data was looked at"),
            36,
            "SELECT count(*) FROM audit a WHERE a.at < :before",
            """WITH gone AS (DELETE FROM audit WHERE id IN (SELECT a.id FROM audit a
WHERE a.at < :before
LIMIT :most) RETURNING 1)
SELECT count(*) FROM gone""",
        ),
        Rule(
            "sign_ins",
            Wording("Sign-ins"),
            Wording("sign-ins that have ended, and failed tries"),
            6,
            """SELECT (SELECT count(*) FROM sign_ins s WHERE s.expires_at < :before)
 + (SELECT count(*) FROM sign_in_attempts t WHERE t.at < :before)""",
            """WITH tries AS (DELETE FROM sign_in_attempts WHERE id IN (
    SELECT t.id FROM sign_in_attempts t WHERE t.at < :before LIMIT :most) RETURNING 1),
ended AS (DELETE FROM sign_ins WHERE token_hash IN (
    SELECT s.token_hash FROM sign_ins s WHERE s.expires_at < :before LIMIT :most) RETURNING 1)
SELECT (SELECT count(*) FROM tries) + (SELECT count(*) FROM ended)""",
        ),
    )
}


@dataclasses.dataclass(frozen=True)
class Kept:
    """A rule as it is set: for how many months (0: for ever), and when it last deleted how much."""

    rule: Rule
    months: int
    last_at: dt.datetime | None
    last_count: int


def kept(session: orm.Session) -> list[Kept]:
    """Every rule as it is set, in their order."""
    rows = {row.kind: row for row in session.scalars(sa.select(Retention))}
    return [
        Kept(rule, rows[rule.kind].months, rows[rule.kind].last_at, rows[rule.kind].last_count)
        if rule.kind in rows
        else Kept(rule, rule.months, None, 0)
        for rule in RULES.values()
    ]


def older(session: orm.Session, rule: Rule, months: int, now: dt.datetime) -> int:
    """How many rows would go if data were kept for so many months."""
    return (
        int(session.execute(sa.text(rule.count), {"before": before(now, months)}).scalar_one())
        if months
        else 0
    )


def before(now: dt.datetime, months: int) -> dt.datetime:
    """The moment so many calendar months ago; the last of a shorter month."""
    year, month = divmod(now.year * 12 + now.month - 1 - months, 12)
    return now.replace(
        year=year, month=month + 1, day=min(now.day, calendar.monthrange(year, month + 1)[1])
    )


def is_due(session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> bool:
    """Whether a night has begun since this was last so; notes that it was asked. Not where it was
    never asked before: what is kept for how long can be set before the first night."""
    here = now.astimezone(zone)
    began = here.replace(hour=NIGHT_BEGINS, minute=0, second=0, microsecond=0)
    if began > here:
        began -= dt.timedelta(days=1)
    # Whoever else asks meanwhile waits, and finds it noted.
    row = session.get(Retention, _ASKED, with_for_update=True)
    if row is None:
        session.add(
            Retention(kind=_ASKED, months=0, changed_at=now, changed_by=NIGHT.name, last_at=now)
        )
        return False
    due = row.last_at is None or row.last_at < began
    row.last_at = now if due else row.last_at
    return due


def set_months(
    session: orm.Session, actor: Actor, now: dt.datetime, kind: str, months: int
) -> None:
    """Keeps a kind of data for so many months from now on. Raises Invalid."""
    if kind not in RULES or months not in MONTHS:
        raise Invalid("Choose one of the lengths of time.", kind)
    was = {one.rule.kind: one.months for one in kept(session)}[kind]
    if was == months:
        return
    row = session.get(Retention, kind) or Retention(kind=kind, last_count=0)
    row.months, row.changed_at, row.changed_by = months, now, actor.name
    session.add(row)
    audit.record(
        session,
        actor,
        now,
        "set how long to keep",
        "retention",
        None,
        RULES[kind].name,
        months=months,
        was=was,
    )


def delete_some(session: orm.Session, one: Kept, now: dt.datetime) -> int:
    """Deletes at most BATCH old rows of a kind; gives how many, 0 when nothing old is left."""
    values = {"before": before(now, one.months), "most": BATCH}
    if one.rule.kind == "people":
        silent = session.scalars(
            sa.text(one.rule.delete), values | {"most": PEOPLE_A_NIGHT // 10}
        ).all()
        for ident in silent:
            erase(session, NIGHT, now, ident)
        return len(silent)
    return int(session.execute(sa.text(one.rule.delete), values).scalar_one())


def note(session: orm.Session, one: Kept, now: dt.datetime, count: int) -> None:
    """Notes what a night has deleted."""
    row = session.get(Retention, one.rule.kind) or Retention(
        kind=one.rule.kind, months=one.months, changed_at=now, changed_by=NIGHT.name
    )
    row.last_at, row.last_count = now, count
    session.add(row)
    audit.record(
        session,
        NIGHT,
        now,
        "deleted what was older than it is kept",
        "retention",
        None,
        one.rule.name,
        rows=count,
        months=one.months,
    )
