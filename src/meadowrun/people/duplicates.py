"""Contacts that are likely the same person: found, merged with their history, and parted again for
a while."""

import dataclasses
import datetime as dt
import json
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONB

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.base.kept import Kept
from meadowrun.people.actions import full_name, search_keys
from meadowrun.people.models import Contact, Merge
from meadowrun.people.queries import contact

#: So long a merge can be undone.
UNDO_FOR = dt.timedelta(days=30)
MOST = 60
#: Columns a person chooses between; the rest follows from them.
CHOSEN = (
    "email",
    "phone",
    "first_name",
    "last_name",
    "company_id",
    "language",
    "timezone",
    "town",
    "reference",
)
_FOLLOWING = ("email_key", "email_usable", "bounced_at", "soft_bounces", "soft_since")

#: Why two contacts may be one → the key that both share. Anything shared by very many says nothing.
RULES = {
    "the same address": "c.email_key",
    # Dots, and what follows a plus, do not matter to most mailboxes.
    "nearly the same address": "CASE WHEN c.email_usable THEN "
    "replace(split_part(split_part(c.email_key, '@', 1), '+', 1), '.', '') || '@' || "
    "split_part(c.email_key, '@', 2) END",
    "the same phone": "c.phone",
    "the same name and town": (
        "CASE WHEN c.first_name <> '' AND c.last_name <> '' AND c.town <> "
        "'' THEN c.name_key || '|' || lower(c.town) END"
    ),
    "the same name and company": "CASE WHEN c.first_name <> '' AND c.last_name <> '' AND "
    "c.company_id IS NOT NULL THEN c.name_key || '|' || "
    "c.company_id END",
}


#: Groups of two to four contacts that have the same key, the smallest groups first.
ALIKE = """SELECT ids FROM (
    SELECT array_agg(id ORDER BY id) AS ids, count(*) AS n
    FROM (SELECT c.id, {key} AS k FROM contacts c) x
    WHERE k IS NOT NULL AND k <> '' GROUP BY k HAVING count(*) BETWEEN 2 AND 4) y
ORDER BY n, ids LIMIT :most"""


#: Gives remembered rows of a table back to the record that was merged into another.
MOVE_BACK = """WITH asked AS (
    SELECT *, row_number() OVER (PARTITION BY {equal}) AS place
    FROM jsonb_populate_recordset(NULL::{table}, :rows)),
here AS (
    SELECT ctid AS row, tableoid AS part, {equal},
        row_number() OVER (PARTITION BY {equal}) AS place
    FROM {table} WHERE contact_id = :kept)
UPDATE {table} t SET contact_id = :gone
FROM here h JOIN asked a ON a.place = h.place AND {same}
WHERE t.ctid = h.row AND t.tableoid = h.part AND t.contact_id = :kept"""


#: What a merge changes of the record that is kept.
_REMEMBERED = (
    *CHOSEN,
    *_FOLLOWING,
    "attributes",
    "name_key",
    "search_key",
    "created_at",
)
#: Writes the record that was kept as it was before the merge.
PUT_KEPT_BACK = """UPDATE contacts c SET {columns}, updated_at = :now
FROM jsonb_populate_record(NULL::contacts, :row) r WHERE c.id = :id"""


@dataclasses.dataclass(frozen=True)
class Pair:
    """Two contacts and why they may be one; the older record first."""

    first: Contact
    second: Contact
    why: tuple[str, ...]


#: Pairs of numbers with their reasons, as last searched for: grouping a million contacts five times
#: takes seconds.
_found: Kept[list[tuple[tuple[int, int], list[str]]]] = Kept(
    seconds=300,
    name="duplicates",
    large=7200,
    whatever=True,
    load=lambda data: [((a, b), why) for (a, b), why in data],
)


def candidates(
    session: orm.Session, now: dt.datetime, most: int = MOST, fresh: bool = False
) -> tuple[list[Pair], dt.datetime]:
    """Pairs that are likely one person, those with more reasons first; and the moment they were
    searched for, which is now where they are to be `fresh`."""
    ordered, as_of = _found.get(session, most, now, lambda: _search(session, most), fresh)
    people = {
        c.id: c
        for c in session.scalars(
            sa.select(Contact).where(Contact.id.in_({n for pair, _ in ordered for n in pair}))
        )
    }
    # One that was merged or erased since is no candidate any more.
    return [
        Pair(people[a], people[b], tuple(why))
        for (a, b), why in ordered
        if a in people and b in people
    ], as_of


def _search(session: orm.Session, most: int) -> list[tuple[tuple[int, int], list[str]]]:
    reasons: dict[tuple[int, int], list[str]] = {}
    for why, key in RULES.items():
        rows = session.execute(
            sa.text(ALIKE.format(key=key)),
            {"most": most * 5},
        ).scalars()
        for ids in rows:
            for place, one in enumerate(ids):
                for other in ids[place + 1 :]:
                    reasons.setdefault((one, other), []).append(why)
    return sorted(reasons.items(), key=lambda r: (-len(r[1]), list(RULES).index(r[1][0]), r[0]))[
        :most
    ]


def preview(first: Contact, second: Contact) -> list[tuple[str, Any, Any]]:
    """What both records say where they say anything: (name, of the first, of the second)."""
    found = [(name, getattr(first, name), getattr(second, name)) for name in CHOSEN]
    keys = sorted({*first.attributes, *second.attributes})
    found += [(key, first.attributes.get(key), second.attributes.get(key)) for key in keys]
    return [f for f in found if f[1] not in (None, "") or f[2] not in (None, "")]


#: Tables whose rows move from one contact to the other, and what must not stand twice for one
#: contact. A delivery that
#: both have stays under the number that went, so that what a send says of itself stays true.
_MOVED = {
    "events": (),
    "reactions": (),
    "deliveries": ("dispatch_id", "occurrence"),
    "list_members": ("list_id",),
    "contact_tags": ("tag_id",),
    "consent_changes": (),
    "push_devices": (),
    "score_points": (),
    "short_codes": (),
    "file_views": (),
    "colleague_tasks": (),
    "details_aside": (),
    "in_app_places": ("dispatch_id",),
}

#: What both had went with its record: where the memory of a merge keeps it → its table.
_LEFT = {
    "left": "list_members",
    "left_in_app_messages": "in_app_places",
    "left_tags": "contact_tags",
}


_MOVE = """
WITH moved AS (
  UPDATE {table} t SET contact_id = :kept WHERE contact_id = :gone {but} RETURNING t.*
)
SELECT coalesce(jsonb_agg(to_jsonb(moved)), '[]') FROM moved
"""


#: Of the entries of two records on the same journey the one that went further goes on; the other
#: ends. Gives back what ended, as it was.
_OFF_JOURNEYS = """
WITH counted AS (
    SELECT e.id, e.journey_id, e.contact_id, e.lane, e.subject, count(m.id) AS moves
    FROM journey_entries e
    LEFT JOIN journey_moves m ON m.entry_id = e.id
    WHERE e.contact_id IN (:kept, :gone) AND e.state = 'inside' GROUP BY e.id),
lesser AS (
    SELECT CASE WHEN k.moves >= g.moves THEN g.id ELSE k.id END AS id
    FROM counted k JOIN counted g
        ON g.journey_id = k.journey_id AND g.lane = k.lane AND g.subject = k.subject
    WHERE k.contact_id = :kept AND g.contact_id = :gone),
old AS (SELECT to_jsonb(e) AS was FROM journey_entries e JOIN lesser USING (id)),
ended AS (
    UPDATE journey_entries e SET state = 'left', because = 'merged', phase = 'over', due = NULL,
        step = '', ended_at = :now
    FROM lesser WHERE e.id = lesser.id)
SELECT coalesce(jsonb_agg(was), '[]') FROM old
"""
#: The entries of the record that goes move over; after that, the numbers of those that did.
_JOURNEYS_MOVE = """
UPDATE journey_entries SET contact_id = :kept WHERE contact_id = :gone RETURNING id
"""
#: Undoes both, of what is still there as the merge left it.
_JOURNEYS_BACK = "UPDATE journey_entries SET contact_id = :gone WHERE id = ANY(:ids)"
_JOURNEYS_ON = """
UPDATE journey_entries e SET state = 'inside', because = '', ended_at = NULL, step = r.step,
    phase = r.phase, due = CASE WHEN r.phase IN ('due', 'waiting', 'awaiting')
        THEN CAST(:now AS timestamptz) END
FROM jsonb_populate_recordset(NULL::journey_entries, CAST(:rows AS jsonb)) r
WHERE e.id = r.id AND e.because = 'merged'
"""

#: Whoever waits is looked at again: what one of two records did counts for the other from now on,
#: and it may live by another clock.
_JOURNEYS_LOOK = """
UPDATE journey_entries SET due = arrived_at
WHERE contact_id = ANY(:contacts) AND phase IN ('waiting', 'awaiting')
"""


def merge(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    kept_id: int,
    gone_id: int,
    from_gone: set[str],
) -> Merge:
    """Makes one contact of two: the fields in `from_gone` come from the one that goes, blanks are
    filled from it.

    History moves over. Of two answers about consent the “no” stays. Raises Invalid or NotFound.
    """
    if kept_id == gone_id:
        raise Invalid("Choose two different contacts.")
    kept, gone = contact(session, kept_id), contact(session, gone_id)
    undo: dict[str, Any] = {
        "kept": _row(session, kept_id),
        "gone": _row(session, gone_id),
        "consents": {
            n: _rows(session, "consents", i) for n, i in (("kept", kept_id), ("gone", gone_id))
        },
        "moved": _move_history(session, kept_id, gone_id),
        **_move_journeys(session, kept_id, gone_id, now),
    }
    for name, table in _LEFT.items():
        undo[name] = _rows(session, table, gone_id)
    _merge_consents(session, kept_id, gone_id)
    _take_fields(session, kept, gone, from_gone)
    kept.updated_at = now
    session.execute(
        sa.text("UPDATE merges SET kept_id = :kept WHERE kept_id = :gone"),
        {"kept": kept_id, "gone": gone_id},
    )
    session.delete(gone)
    session.flush()
    session.execute(sa.text(_JOURNEYS_LOOK), {"contacts": [kept_id]})
    done = Merge(kept_id=kept_id, gone_id=gone_id, at=now, by=actor.name, undo=undo)
    session.add(done)
    session.flush()
    audit.record(
        session,
        actor,
        now,
        "merged another record into",
        "contact",
        kept_id,
        full_name(kept),
        gone=gone_id,
    )
    return done


def _move_history(session: orm.Session, kept_id: int, gone_id: int) -> dict[str, Any]:
    """The rows that moved over, by table; what the kept one has already stays where it is."""
    moved: dict[str, Any] = {}
    for table, single in _MOVED.items():
        same = " AND ".join(f"k.{column} = t.{column}" for column in single)
        has = f"SELECT 1 FROM {table} k WHERE k.contact_id = :kept AND {same}"
        moved[table] = session.execute(
            sa.text(_MOVE.format(table=table, but=f"AND NOT EXISTS ({has})" if single else "")),
            {"kept": kept_id, "gone": gone_id},
        ).scalar_one()
    return moved


def _move_journeys(
    session: orm.Session, kept_id: int, gone_id: int, now: dt.datetime
) -> dict[str, Any]:
    """Journeys go on for the record that stays: what ended, and the entries that moved over."""
    values = {"kept": kept_id, "gone": gone_id}
    ended = session.execute(sa.text(_OFF_JOURNEYS), values | {"now": now}).scalar_one()
    moved = session.scalars(sa.text(_JOURNEYS_MOVE), values).all()
    return {"journeys_ended": ended, "journeys_moved": list(moved)}


def _take_fields(session: orm.Session, kept: Contact, gone: Contact, from_gone: set[str]) -> None:
    if gone.reference and ("reference" in from_gone or not kept.reference):
        # A reference is one person's: it is let go before it is taken.
        reference, gone.reference = gone.reference, None
        session.flush()
        kept.reference = reference
    for name in (n for n in CHOSEN if n != "reference"):
        if name in from_gone or getattr(kept, name) in (None, ""):
            setattr(kept, name, getattr(gone, name))
            if name == "email":
                for following in _FOLLOWING:
                    setattr(kept, following, getattr(gone, following))
    kept.attributes = {
        **gone.attributes,
        **kept.attributes,
        **{k: v for k, v in gone.attributes.items() if k in from_gone},
    }
    # Of two wishes the one for less holds, as of two answers the “no” does.
    kept.most_a_week = min(
        (one for one in (kept.most_a_week, gone.most_a_week) if one), default=None
    )
    kept.paused_until = max(
        (one for one in (kept.paused_until, gone.paused_until) if one), default=None
    )
    kept.created_at = min(kept.created_at, gone.created_at)
    kept.name_key, kept.search_key = search_keys(kept.first_name, kept.last_name, kept.email)


def _row(session: orm.Session, contact_id: int) -> Any:
    return session.execute(
        sa.text("SELECT to_jsonb(c) FROM contacts c WHERE id = :id"), {"id": contact_id}
    ).scalar_one()


def _rows(session: orm.Session, table: str, contact_id: int) -> Any:
    return session.execute(
        sa.text(
            f"SELECT coalesce(jsonb_agg(to_jsonb(t)), '[]') FROM {table} t WHERE contact_id = :id"
        ),
        {"id": contact_id},
    ).scalar_one()


def _merge_consents(session: orm.Session, kept: int, gone: int) -> None:
    """Answers only the other gave come over; where both answered and differ, the “no” stays."""
    values = {"kept": kept, "gone": gone}
    session.execute(
        sa.text(
            "UPDATE consents k SET agreed = false, at = g.at, how = g.how FROM consents g WHERE "
            "k.contact_id = :kept AND g.contact_id = :gone "
            "AND k.channel = g.channel AND k.topic_id = g.topic_id AND k.agreed AND NOT g.agreed"
        ),
        values,
    )
    session.execute(
        sa.text(
            "INSERT INTO consents (contact_id, channel, topic_id, agreed, at, how) SELECT :kept, "
            "channel, topic_id, agreed, at, how FROM consents "
            "WHERE contact_id = :gone ON CONFLICT DO NOTHING"
        ),
        values,
    )


def recent(session: orm.Session, now: dt.datetime, kept_id: int | None = None) -> list[Merge]:
    """Merges that can still be undone, the latest first."""
    query = sa.select(Merge).where(Merge.at > now - UNDO_FOR).order_by(Merge.id.desc())
    return list(
        session.scalars(query.where(Merge.kept_id == kept_id) if kept_id else query.limit(20))
    )


def undo(session: orm.Session, actor: Actor, now: dt.datetime, merge_id: int) -> Merge:
    """Parts two merged contacts: both get back what they were, and the history that moved.

    Raises Conflict when it is too long ago, or when the record was merged again since.
    """
    done = session.get(Merge, merge_id)
    if done is None or done.at <= now - UNDO_FOR:
        raise Conflict("This merge can no longer be undone.")
    later = session.scalar(
        sa.select(Merge.id).where(Merge.kept_id == done.kept_id, Merge.id > merge_id).limit(1)
    )
    if later is not None:
        raise Conflict("This record was merged with another since. Undo that first.")
    memory = done.undo
    kept = contact(session, done.kept_id)
    kept.reference = None
    session.flush()
    _put_back(session, "contacts", [memory["gone"]])
    session.execute(
        sa.text(
            PUT_KEPT_BACK.format(
                columns=", ".join(f"{column} = r.{column}" for column in _REMEMBERED)
            )
        ).bindparams(sa.bindparam("row", type_=JSONB)),
        {"row": memory["kept"], "id": done.kept_id, "now": now},
    )
    for table in _MOVED:
        _move_back(session, table, memory["moved"].get(table, []), done)
    back = {"gone": done.gone_id, "ids": memory.get("journeys_moved", [])}
    session.execute(sa.text(_JOURNEYS_BACK), back)
    on = {"now": now, "rows": json.dumps(memory.get("journeys_ended", []))}
    session.execute(sa.text(_JOURNEYS_ON), on)
    both = {"contacts": [done.kept_id, done.gone_id]}
    session.execute(sa.text(_JOURNEYS_LOOK), both)
    # Where both were in a list, the other's membership went with its record.
    for name, table in _LEFT.items():
        _put_back(session, table, memory.get(name, []))
    session.execute(sa.text("DELETE FROM consents WHERE contact_id = :id"), {"id": done.kept_id})
    _put_back(session, "consents", [*memory["consents"]["kept"], *memory["consents"]["gone"]])
    session.delete(done)
    session.flush()
    session.expire_all()
    audit.record(
        session,
        actor,
        now,
        "undid the merge with",
        "contact",
        done.kept_id,
        full_name(contact(session, done.kept_id)),
        back=done.gone_id,
    )
    return done


def _put_back(session: orm.Session, table: str, rows: list[Any]) -> None:
    if rows:
        session.execute(
            sa.text(
                f"INSERT INTO {table} SELECT * FROM jsonb_populate_recordset(NULL::{table}, "
                ":rows) ON CONFLICT DO NOTHING"
            ).bindparams(sa.bindparam("rows", type_=JSONB)),
            {"rows": rows},
        )


def _move_back(session: orm.Session, table: str, rows: list[Any], done: Merge) -> None:
    """Gives rows that had moved back: each remembered row takes one equal row along, so that two
    equal ones stay two."""
    if not rows:
        return
    columns = [c for c in rows[0] if c not in ("contact_id", "id")]
    equal = ", ".join(columns)
    session.execute(
        sa.text(
            MOVE_BACK.format(
                equal=equal,
                table=table,
                same=" AND ".join(f"a.{c} IS NOT DISTINCT FROM h.{c}" for c in columns),
            )
        ).bindparams(sa.bindparam("rows", type_=JSONB)),
        {"rows": rows, "kept": done.kept_id, "gone": done.gone_id},
    )
