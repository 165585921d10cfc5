"""Writing messages: every draft is kept, an edition never changes."""

import copy
import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import document as doc
from meadowrun.core.content.channels import take_for
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.differences import differences
from meadowrun.core.content.lines import Json, walk
from meadowrun.messages import asking, queries
from meadowrun.messages.models import Draft, Edition, Message, Review

#: Saves of one person within this time share a draft, so that drafts are worth looking at.
SAME_DRAFT = dt.timedelta(minutes=10)


def create(session: orm.Session, actor: Actor, now: dt.datetime, name: str, document: Json, channel: str = "email") -> Message:
    name = _free_name(session, " ".join(name.split()), None)
    asking.check(session, document)
    message = Message(name=name, channel=channel, draft=1, document=document, created_at=now, changed_at=now, changed_by=actor.name)
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


def take(data: Any, words: Dictionary, channel: str = "email") -> Json:
    """A document that comes from outside, checked with the conditions in it. Raises Invalid naming "<line>:<slot>"."""
    try:
        document = take_for(channel, data)
    except doc.DocumentError as problem:
        raise Invalid(str(problem), f"{problem.line or ''}:{problem.slot or ''}") from None
    check_conditions(document["lines"], words)
    return document


def check_conditions(lines: list[Json], words: Dictionary) -> None:
    """Raises Invalid when a condition in lines names something that does not exist."""
    for line in walk(lines):
        for case in line.get("cases", ()):
            try:
                d.parse({"lines": case["lines"]}, words)
            except d.DefinitionError as problem:
                raise Invalid(f"Who reads “{case['name'] or 'this version'}”: {problem}", f"{case['id']}:lines") from None


def save(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, data: Any, based_on: int,
         words: Dictionary) -> Message:
    """Saves what an author wrote as the newest draft.

    Raises Invalid naming the line and slot ("<line>:<slot>"), Conflict when somebody else saved after draft `based_on`.
    """
    document = take(data, words, message.channel)
    asking.check(session, document)
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


def _changes(old: Json, new: Json) -> str:
    said = differences(old, new)
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


def make_edition(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, public_url: str,
                 approved_by: str = "") -> Edition:
    """The newest draft as an edition; the last one again when nothing changed since. Raises Invalid."""
    last = session.scalar(sa.select(Edition).where(Edition.message_id == message.id)
                          .order_by(Edition.number.desc()).limit(1))
    try:
        compiled = queries.compiled(session, message.document, public_url).to_json()
    except CompileError as problem:
        raise Invalid(str(problem)) from None
    if last is not None and last.document == message.document and last.compiled == compiled:
        last.approved_by = approved_by or last.approved_by
        return last
    edition = Edition(message_id=message.id, number=(last.number if last else 0) + 1, document=message.document,
                      compiled=compiled, at=now, by=actor.name, approved_by=approved_by)
    session.add(edition)
    session.flush()
    audit.record(session, actor, now, "made an edition of", "message", message.id, message.name, edition=edition.number)
    return edition


def edition_to_send(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, public_url: str) -> Edition:
    """What a send of this message gives people: the newest draft, or, where the house asks for review, the newest approved
    edition, which serves on while the next is written. Raises Invalid."""
    if not queries.house(session).review:
        return make_edition(session, actor, now, message, public_url)
    approved = queries.approved(session, message.id)
    if approved is None:
        raise Invalid("Nobody has approved this message yet. Ask for a review on its page.", "message")
    return approved


def ask_review(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, reviewer_id: int) -> Review:
    """Asks a person to look at the newest draft. Raises Invalid when it has no subject, or one would ask oneself."""
    if message.channel == "email" and not message.document["subject"] and not message.document.get("one_of"):
        raise Invalid("Give it a subject first; a message without one cannot be approved.", "subject")
    if reviewer_id == actor.user_id:
        raise Invalid("Ask somebody else: one's own message is read by another pair of eyes.", "reviewer")
    for older in queries.reviews(session, message.id):
        if older.state == "asked":
            older.state = "overtaken"
    review = Review(message_id=message.id, draft=message.draft, reviewer_id=reviewer_id, asked_by=actor.name, asked_at=now,
                    state="asked")
    session.add(review)
    session.flush()
    audit.record(session, actor, now, "asked for a review of", "message", message.id, message.name, draft=message.draft)
    return review


def answer_review(session: orm.Session, actor: Actor, now: dt.datetime, message: Message, review: Review, approve: bool,
                  note: str, public_url: str) -> None:
    """Approves a draft, which becomes an edition, or sends it back with a word why.

    Raises Conflict when the message was changed since, Invalid when sent back without a word.
    """
    if review.state != "asked":
        raise Conflict("This review was answered or overtaken already.")
    if approve and message.draft != review.draft:
        raise Conflict(f"Draft {message.draft} was written since draft {review.draft} was shown to you. Read the newest first.")
    if not approve and not note.strip():
        raise Invalid("Say what should be changed.", "note")
    review.state, review.note, review.answered_at = "approved" if approve else "sent_back", note.strip(), now
    if approve:
        make_edition(session, actor, now, message, public_url, approved_by=actor.name)
    audit.record(session, actor, now, "approved" if approve else "sent back", "message", message.id, message.name,
                 draft=message.draft)
