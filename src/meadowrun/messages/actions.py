"""Writing messages: every draft is kept, an edition never changes."""

import copy
import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.content import document as doc
from meadowrun.core.content.compiled import CompileError, compile_document
from meadowrun.messages.models import Draft, Edition, Message

#: Saves of one person within this time share a draft, so that drafts are worth looking at.
SAME_DRAFT = dt.timedelta(minutes=10)


def create(session: orm.Session, actor: Actor, now: dt.datetime, name: str, document: doc.Json) -> Message:
    name = _free_name(session, " ".join(name.split()), None)
    message = Message(name=name, draft=1, document=document, created_at=now, changed_at=now, changed_by=actor.name)
    session.add(message)
    session.flush()
    session.add(Draft(message_id=message.id, number=1, document=document, changes="begun", at=now, by=actor.name))
    audit.record(session, actor, now, "began", "message", message.id, name)
    return message


def _free_name(session: orm.Session, name: str, own_id: int | None) -> str:
    if not name:
        raise Invalid("Give the message a name; readers never see it.", "name")
    other = session.scalar(sa.select(Message.id).where(Message.name == name))
    if other is not None and other != own_id:
        raise Conflict(f"There is a message called “{name}” already. Choose another name.")
    return name


def rename(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, name: str) -> None:
    message.name = _free_name(session, " ".join(name.split()), message.id)
    message.changed_at, message.changed_by = now, actor.name
    audit.record(session, actor, now, "renamed", "message", message.id, message.name)


def save(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, data: Any, based_on: int) -> Message:
    """Saves what an author wrote as the newest draft.

    Raises Invalid naming the line and slot ("<line>:<slot>"), Conflict when somebody else saved after draft `based_on`.
    """
    try:
        document = doc.take(data)
    except doc.DocumentError as problem:
        raise Invalid(str(problem), f"{problem.line or ''}:{problem.slot or ''}") from None
    session.refresh(message, with_for_update=True)
    newest = session.get_one(Draft, (message.id, message.draft))
    if message.draft != based_on and newest.by != actor.name:
        raise Conflict(f"{message.changed_by} saved draft {message.draft} while you were writing. What you typed is "
                       "still here; open their draft in another window, or keep yours as a copy.")
    if document == message.document:
        return message
    if newest.by == actor.name and now - newest.at < SAME_DRAFT and message.draft > 1:
        older = session.get_one(Draft, (message.id, message.draft - 1))
        newest.document = document
        newest.changes = _changes(older.document, document)
    else:
        message.draft += 1
        session.add(Draft(message_id=message.id, number=message.draft, document=document,
                          changes=_changes(message.document, document), at=now, by=actor.name))
        audit.record(session, actor, now, "wrote", "message", message.id, message.name, draft=message.draft)
    message.document = document
    message.changed_at, message.changed_by = now, actor.name
    session.flush()
    return message


def _changes(old: doc.Json, new: doc.Json) -> str:
    said = doc.differences(old, new)
    return ", ".join(said[:4]) + (f" and {len(said) - 4} more changes" if len(said) > 4 else "") or "nothing changed"


def restore(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, number: int) -> Message:
    """Makes an earlier draft the newest again; the one in between stays."""
    draft = session.get(Draft, (message.id, number))
    if draft is None:
        raise Invalid(f"There is no draft {number}.")
    message.draft += 1
    message.document = copy.deepcopy(draft.document)
    message.changed_at, message.changed_by = now, actor.name
    session.add(Draft(message_id=message.id, number=message.draft, document=message.document,
                      changes=f"draft {number} brought back", at=now, by=actor.name))
    audit.record(session, actor, now, "brought back", "message", message.id, message.name, draft=number)
    session.flush()
    return message


def make_edition(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, public_url: str) -> Edition:
    """The newest draft as an edition; the last one again when nothing changed since. Raises Invalid."""
    last = session.scalar(sa.select(Edition).where(Edition.message_id == message.id)
                          .order_by(Edition.number.desc()).limit(1))
    try:
        compiled = compile_document(message.document, public_url).to_json()
    except CompileError as problem:
        raise Invalid(str(problem)) from None
    if last is not None and last.document == message.document and last.compiled == compiled:
        return last
    edition = Edition(message_id=message.id, number=(last.number if last else 0) + 1, document=message.document,
                      compiled=compiled, at=now, by=actor.name)
    session.add(edition)
    session.flush()
    audit.record(session, actor, now, "made an edition of", "message", message.id, message.name, edition=edition.number)
    return edition
