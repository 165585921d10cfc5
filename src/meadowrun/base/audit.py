"""An audit row for each change made by a person."""

import dataclasses
import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base


@dataclasses.dataclass(frozen=True)
class Actor:
    """Who does something: a signed-in person, or the name of a machine's part (`user_id` None)."""

    user_id: int | None
    name: str
    role: str = "viewer"
    request_id: str = ""


#: Coming in, and not being let in: kept for whoever looks into it, beside what was changed.
SIGNED_IN, REFUSED = "signed in", "refused a sign-in of"
#: Looking at what is kept of one person.
LOOKED = "looked at"
SYSTEM = Actor(None, "Meadowrun", "admin")


class AuditRow(Base):
    __tablename__ = "audit"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    at: orm.Mapped[dt.datetime] = orm.mapped_column(index=True)
    user_id: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    #: the person's name as it was then, so that the row still reads well when they are gone
    who: orm.Mapped[str]
    #: what was done, in words: "changed the subject", "started the send"
    did: orm.Mapped[str]
    object_kind: orm.Mapped[str]
    object_id: orm.Mapped[int | None] = orm.mapped_column(sa.BigInteger)
    object_name: orm.Mapped[str]
    detail: orm.Mapped[dict[str, Any]]
    request_id: orm.Mapped[str]
    __table_args__ = (sa.Index("ix_audit_object", "object_kind", "object_id", "at"),)


#: What is said of an object → the table whose changed columns go with it, from what to what.
_TABLES = {
    "campaign": "campaigns",
    "company": "companies",
    "feed": "feeds",
    "house style": "house_style",
    "list": "lists",
    "message": "messages",
    "grouping": "groupings",
    "score": "scores",
    "segment": "segments",
    "sender": "senders",
    "tag": "tags",
    "topic": "topics",
    "user": "users",
}
#: Columns that follow from others, that are shown elsewhere, or that nobody may read.
_UNSAID = {
    "changed_at",
    "updated_at",
    "changed_by",
    "version",
    "draft",
    "document",
    "definition",
    "size",
    "sized_at",
    "sizes",
    "name_key",
    "search_key",
    "password_hash",
    "tags",
    "parts",
    "headers",
    "newest",
    "fetched_at",
}
_CHANGED = "changed rows"


@sa.event.listens_for(orm.Session, "before_flush")
def _remember(session: orm.Session, _context: Any, _instances: Any) -> None:
    """Keeps, for this transaction, what each row that a person may be told about was before it was
    changed."""
    for row in session.dirty:
        if row.__tablename__ in _TABLES.values():
            state = sa.inspect(row)
            kept = session.info.setdefault(_CHANGED, {}).setdefault(
                (row.__tablename__, state.identity[0]), {}
            )
            for column in state.mapper.column_attrs:
                history = state.attrs[column.key].history
                if history.deleted and column.key not in _UNSAID:
                    kept[column.key] = (
                        kept.get(column.key, (history.deleted[0],))[0],
                        state.attrs[column.key].value,
                    )


@sa.event.listens_for(orm.Session, "after_commit")
@sa.event.listens_for(orm.Session, "after_rollback")
def _forget(session: orm.Session) -> None:
    session.info.pop(_CHANGED, None)


def _changes(session: orm.Session, kind: str, object_id: int | None) -> dict[str, dict[str, Any]]:
    """What this transaction changed of an object; of what holds several values by name, each by its
    name."""
    if kind not in _TABLES:
        return {}
    session.flush()
    before: dict[str, Any] = {}
    after: dict[str, Any] = {}
    for name, (was, now) in (
        session.info.get(_CHANGED, {}).get((_TABLES[kind], object_id), {}).items()
    ):
        if isinstance(was, dict) and isinstance(now, dict):
            before |= was
            after |= dict.fromkeys(was) | now
        else:
            before[name], after[name] = was, now
    return from_to(before, after)


def record(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    did: str,
    kind: str,
    object_id: int | None,
    name: str,
    /,
    **detail: Any,
) -> None:
    """Writes down that `actor` did something to an object, in the same transaction as the change
    itself; a detail may have any name.

    What changed of the object, from what to what, goes with it by itself.
    """
    detail |= _changes(session, kind, object_id)
    session.add(
        AuditRow(
            at=now,
            user_id=actor.user_id,
            who=actor.name,
            did=did,
            object_kind=kind,
            object_id=object_id,
            object_name=name,
            detail=detail,
            request_id=actor.request_id,
        )
    )


#: Notes that somebody looked at a contact, unless they did within the hour before.
_LOOKED = """
INSERT INTO audit (at, user_id, who, did, object_kind, object_id, object_name, detail, request_id)
SELECT :now, :user, :who, :did, 'contact', :contact, '', '{}', :request WHERE NOT EXISTS (
    SELECT 1 FROM audit WHERE object_kind = 'contact' AND object_id = :contact AND at > :before
    AND user_id = :user AND did = :did)
"""


def looked(session: orm.Session, actor: Actor, now: dt.datetime, contact_id: int) -> None:
    """Writes down that a signed-in person looked at what is kept of a contact: once an hour, and by
    number, without a name."""
    if actor.user_id is not None:
        session.execute(
            sa.text(_LOOKED),
            {
                "now": now,
                "user": actor.user_id,
                "who": actor.name,
                "did": LOOKED,
                "contact": contact_id,
                "request": actor.request_id,
                "before": now - dt.timedelta(hours=1),
            },
        )


def from_to(before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, dict[str, Any]]:
    """What differs, name by name, as {"from", "to"}, ready for a detail: what JSON cannot hold is
    kept as its text."""

    def plain(value: Any) -> Any:
        return (
            value
            if value is None or isinstance(value, bool | int | float | str | list | dict)
            else str(value)
        )

    return {
        name: {"from": plain(before.get(name)), "to": plain(value)}
        for name, value in after.items()
        if before.get(name) != value
    }


def recent(
    session: orm.Session, most: int, people: bool = False, looks: bool = False
) -> list[AuditRow]:
    """What was done last, the latest first; with `people` only what people changed, not what
    programs did, nor who came in; with `looks` only who looked at whom, which is left out
    otherwise."""
    asked = (
        sa.select(AuditRow)
        .where((AuditRow.did == LOOKED) == looks)
        .order_by(AuditRow.at.desc(), AuditRow.id.desc())
        .limit(most)
    )
    if people:
        asked = asked.where(
            AuditRow.who.not_like(sa.literal_column("'API key %'")),
            AuditRow.did.not_in([SIGNED_IN, REFUSED]),
        )
    return list(session.scalars(asked))
