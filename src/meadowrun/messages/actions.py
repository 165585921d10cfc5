"""Writing messages: every draft is kept, an edition never changes."""

import copy
import datetime as dt
import hashlib
import json
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.channels import KINDS, take_for
from meadowrun.core.content import document as doc
from meadowrun.core.content.compiled import CompileError
from meadowrun.core.content.differences import differences
from meadowrun.core.content.lines import Json, walk
from meadowrun.core.language import Wording
from meadowrun.messages import asking, compiling, queries
from meadowrun.messages.models import Draft, Edition, Message, Review
from meadowrun.shell.telling import named, tell

#: Saves of one person share a draft for so long, and while they do not pause for so long: drafts
#: are steps worth going back to.
SAME_DRAFT, PAUSE = dt.timedelta(minutes=3), dt.timedelta(minutes=1)
#: Taking out so many lines at once begins a draft of its own.
MANY_LINES = 3


def create(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    document: Json,
    channel: str = "email",
) -> Message:
    name = _free_name(session, " ".join(name.split()), None)
    asking.check(session, document)
    message = Message(
        name=name,
        channel=channel,
        draft=1,
        document=document,
        created_at=now,
        changed_at=now,
        changed_by=actor.name,
    )
    session.add(message)
    session.flush()
    session.add(
        Draft(
            message_id=message.id,
            number=1,
            document=document,
            changes="created",
            at=now,
            by=actor.name,
        )
    )
    audit.record(session, actor, now, "began", "message", message.id, name)
    return message


def _free_name(session: orm.Session, name: str, own_id: int | None) -> str:
    if not name:
        raise Invalid("Give the message a name; readers never see it.", "name")
    other = session.scalar(sa.select(Message.id).where(Message.name == name))
    if other is not None and other != own_id:
        raise Conflict(
            Wording("There is a message called “%(name)s” already. Choose another name.", name=name)
        )
    return name


def rename(
    session: orm.Session, actor: Actor, now: dt.datetime, message: Message, name: str
) -> None:
    message.name = _free_name(session, " ".join(name.split()), message.id)
    message.changed_at, message.changed_by = now, actor.name
    audit.record(session, actor, now, "renamed", "message", message.id, message.name)


def take(data: Any, words: Dictionary, channel: str = "email") -> Json:
    """A document that comes from outside, checked with the conditions in it. Raises Invalid naming
    "<line>:<slot>"."""
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
                raise Invalid(
                    Wording(
                        "Who reads “%(value)s”: %(problem)s",
                        value=case["name"] or "this version",
                        problem=problem,
                    ),
                    f"{case['id']}:lines",
                ) from None


def meanwhile(who: str, what: str, newest: int) -> Conflict:
    """What is said to whoever saves over something newer, a message or a shared part."""
    return Conflict(
        Wording(
            "%(who)s changed this %(what)s while you were writing, or you did in another "
            "window. What you typed is still here.",
            who=who,
            what=what,
        ),
        newest,
    )


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    message: Message,
    data: Any,
    based_on: int,
    words: Dictionary,
    apart: bool = False,
) -> Message:
    """Saves what an author wrote as the newest draft; `apart` as one of its own, so that the one
    before can be gone back to.

    Raises Invalid naming the line and slot ("<line>:<slot>"), Conflict when anybody saved after
    version `based_on`.
    """
    document = take(data, words, message.channel)
    asking.check(session, document)
    session.refresh(message, with_for_update=True)
    if message.version != based_on:
        raise meanwhile(message.changed_by, "message", message.version)
    if document == message.document:
        return message
    newest = session.get_one(Draft, (message.id, message.draft))
    goes_on = (
        newest.by == actor.name
        and now - newest.at < SAME_DRAFT
        and now - message.changed_at < PAUSE
        and message.draft > 1
        and not newest.frozen
        and not newest.name
        and not apart
    )
    if goes_on and _count(message.document) - _count(document) < MANY_LINES:
        older = session.get_one(Draft, (message.id, message.draft - 1))
        newest.document = document
        newest.changes = _changes(older.document, document)
        message.document, message.changed_at, message.changed_by = document, now, actor.name
        message.version += 1
    else:
        next_draft(session, actor, now, message, document, _changes(message.document, document))
        audit.record(
            session, actor, now, "wrote", "message", message.id, message.name, draft=message.draft
        )
    session.flush()
    return message


def _count(document: Json) -> int:
    return sum(1 for _ in walk(document["lines"]))


def next_draft(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    message: Message,
    document: Json,
    changes: str,
) -> Draft:
    """Makes a document the next draft of a message whose row is locked; the one before stays as it
    is."""
    message.draft += 1
    message.version += 1
    message.document, message.changed_at, message.changed_by = document, now, actor.name
    draft = Draft(
        message_id=message.id,
        number=message.draft,
        document=document,
        changes=changes,
        at=now,
        by=actor.name,
    )
    session.add(draft)
    session.flush()
    return draft


def name_draft(
    session: orm.Session, actor: Actor, now: dt.datetime, message: Message, number: int, name: str
) -> None:
    """Gives a draft a name (an empty one takes it away): it is kept as it is, and what is written
    now becomes the next."""
    draft = session.get(Draft, (message.id, number))
    if draft is None:
        raise Invalid(Wording("There is no draft %(number)s.", number=number))
    draft.name = " ".join(name.split())[:80]
    audit.record(
        session,
        actor,
        now,
        "named a draft of",
        "message",
        message.id,
        message.name,
        draft=number,
        name=draft.name,
    )


def content_of(document: Json) -> str:
    """The fingerprint of a document: the same for the same content, however it was stored."""
    return hashlib.sha256(
        json.dumps(document, sort_keys=True, ensure_ascii=True).encode()
    ).hexdigest()


def _changes(old: Json, new: Json) -> str:
    said = differences(old, new)
    return (
        ", ".join(said[:4]) + (f" and {len(said) - 4} more changes" if len(said) > 4 else "")
        or "nothing changed"
    )


def restore(
    session: orm.Session, actor: Actor, now: dt.datetime, message: Message, number: int
) -> Message:
    """Makes an earlier draft the newest again; the one in between stays."""
    draft = session.get(Draft, (message.id, number))
    if draft is None:
        raise Invalid(Wording("There is no draft %(number)s.", number=number))
    session.refresh(message, with_for_update=True)
    next_draft(
        session, actor, now, message, copy.deepcopy(draft.document), f"draft {number} restored"
    )
    audit.record(
        session,
        actor,
        now,
        "restored a draft of",
        "message",
        message.id,
        message.name,
        draft=number,
    )
    session.flush()
    return message


def make_edition(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    message: Message,
    public_url: str,
    approved_by: str = "",
    document: Json | None = None,
) -> Edition:
    """The newest draft (or another `document` of the message) as an edition; the last one again
    when nothing changed since. Raises Invalid."""
    document = message.document if document is None else document
    # Two who need the first edition at once get the same one: the second waits for the first.
    session.execute(
        sa.select(Message.id).where(Message.id == message.id).with_for_update(key_share=True)
    )
    last = session.scalar(
        sa.select(Edition)
        .where(Edition.message_id == message.id)
        .order_by(Edition.number.desc())
        .limit(1)
    )
    try:
        compiled = compiling.compiled(session, document, public_url).to_json()
    except CompileError as problem:
        raise Invalid(str(problem)) from None
    if last is not None and last.document == document and last.compiled == compiled:
        if approved_by:
            last.approved_by, last.approved_at = approved_by, now
        return last
    edition = Edition(
        message_id=message.id,
        number=(last.number if last else 0) + 1,
        document=document,
        compiled=compiled,
        at=now,
        by=actor.name,
        approved_by=approved_by,
        approved_at=now if approved_by else None,
    )
    session.add(edition)
    session.flush()
    audit.record(
        session,
        actor,
        now,
        "made an edition of",
        "message",
        message.id,
        message.name,
        edition=edition.number,
    )
    return edition


def edition_to_send(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    message: Message,
    public_url: str,
    takes: str,
) -> Edition:
    """What a send of this message gives people, by what the send `takes` (queries.State). Raises
    Invalid."""
    state = queries.state_to_send(session, message, takes)
    if state.missing:
        raise Invalid(
            "Nobody has approved this message yet. Ask for a review on its page.", "message"
        )
    return state.edition or make_edition(session, actor, now, message, public_url)


def ask_review(
    session: orm.Session, actor: Actor, now: dt.datetime, message: Message, reviewer_id: int
) -> Review:
    """Asks a person to look at the newest draft. Raises Invalid when it has no subject, or one
    would ask oneself."""
    if (
        KINDS[message.channel].mail
        and not message.document["subject"]
        and not message.document.get("one_of")
    ):
        raise Invalid(
            "Give it a subject first; a message without one cannot be approved.", "subject"
        )
    if reviewer_id == actor.user_id:
        raise Invalid(
            "Ask somebody else: your own message needs another person’s review.", "reviewer"
        )
    for older in queries.reviews(session, message.id):
        if older.state == "asked":
            older.state = "overtaken"
    session.refresh(message, with_for_update=True)
    session.get_one(Draft, (message.id, message.draft)).frozen = True
    review = Review(
        message_id=message.id,
        draft=message.draft,
        content=content_of(message.document),
        reviewer_id=reviewer_id,
        asked_by=actor.name,
        asked_at=now,
        state="asked",
    )
    session.add(review)
    session.flush()
    tell(
        session,
        now,
        reviewer_id,
        f"review:{review.id}",
        f"{actor.name} asks you to read “{message.name}”",
        (
            f"Draft {message.draft} of “{message.name}” waits for your answer: approve it, or send "
            "it back and say why."
        ),
        f"/messages/{message.id}/review",
    )
    audit.record(
        session,
        actor,
        now,
        "asked for a review of",
        "message",
        message.id,
        message.name,
        draft=message.draft,
    )
    return review


def answer_review(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    message: Message,
    review: Review,
    approve: bool,
    note: str,
    public_url: str,
    content: str,
) -> None:
    """Approves the very draft that was asked about, which becomes an edition, or sends it back with
    a word why.

    `content` is the fingerprint of what the reviewer was shown. Raises Conflict when that is not
    what was asked about, Invalid when sent back without a word.
    """
    session.refresh(review, with_for_update=True)
    draft = session.get_one(Draft, (message.id, review.draft))
    _refuse_answer(review, draft, approve, note, content)
    review.state = "approved" if approve else "sent_back"
    review.note, review.answered_at = note.strip(), now
    if approve:
        by, document = actor.name, draft.document
        make_edition(session, actor, now, message, public_url, approved_by=by, document=document)
    said = "approved" if approve else "sent back"
    tell(
        session,
        now,
        named(session, review.asked_by),
        f"answer:{review.id}",
        f"{actor.name} {said} “{message.name}”",
        f"Draft {review.draft} of “{message.name}” was {said}."
        + (f"\n\n{review.note}" if review.note else ""),
        f"/messages/{message.id}/review",
    )
    audit.record(session, actor, now, said, "message", message.id, message.name, draft=review.draft)


def _refuse_answer(review: Review, draft: Draft, approve: bool, note: str, content: str) -> None:
    """Raises what keeps an answer to a review from being taken."""
    if review.state != "asked":
        raise Conflict("This review was answered already, or another draft was asked about since.")
    if not approve and not note.strip():
        raise Invalid("Say what should be changed.", "note")
    if approve and not content == review.content == content_of(draft.document):
        raise Conflict(
            "What you were shown has changed since you were asked. Read it once more, then answer."
        )
