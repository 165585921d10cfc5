"""Shared parts: lines written once and used in many messages, which take a newer version when their
authors choose."""

import datetime as dt
from collections.abc import Collection
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import document as doc
from meadowrun.core.content.differences import differences
from meadowrun.core.content.lines import Json, walk
from meadowrun.core.language import Wording
from meadowrun.messages import actions, asking, queries
from meadowrun.messages.models import (
    Message,
    SharedPart,
    SharedPartVersion,
)


def keep_part(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    lines: list[Any],
    words: Dictionary,
    part: SharedPart | None = None,
    based_on: int | None = None,
) -> SharedPart:
    """Keeps lines under a name, or as the next version of a part. Messages keep the version they
    have.

    Raises Invalid naming the place, Conflict when the name is taken or somebody else saved after
    `based_on`.
    """
    name = _free_name(session, name, part)
    taken = _taken(session, lines, words)
    if part is None:
        part = SharedPart(name=name, version=0, lines=taken, changed_at=now, changed_by=actor.name)
        session.add(part)
        changes = "created"
    else:
        session.refresh(part, with_for_update=True)
        if based_on is not None and based_on != part.version:
            raise actions.meanwhile(part.changed_by, "shared part", part.version)
        if taken == part.lines and name == part.name:
            return part
        said = differences(doc.empty() | {"lines": part.lines}, doc.empty() | {"lines": taken})
        changes = ", ".join(said[:5]) or "renamed"
    part.name, part.lines = name, taken
    part.changed_at, part.changed_by = now, actor.name
    part.version += 1
    session.flush()
    session.add(
        SharedPartVersion(
            part_id=part.id,
            number=part.version,
            lines=part.lines,
            changes=changes,
            at=now,
            by=actor.name,
        )
    )
    session.flush()
    audit.record(
        session, actor, now, "saved", "shared part", part.id, part.name, version=part.version
    )
    return part


def _free_name(session: orm.Session, name: str, part: SharedPart | None) -> str:
    """A name that no other part has. Raises Invalid for none, Conflict for a taken one."""
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the shared part a name.", "name")
    other = session.scalar(sa.select(SharedPart).where(SharedPart.name == name))
    if other is not None and other is not part:
        raise Conflict(
            Wording(
                "There is a shared part called “%(name)s” already. Choose another name.", name=name
            )
        )
    return name


def _taken(session: orm.Session, lines: list[Any], words: Dictionary) -> list[Json]:
    """The lines of a part, checked. Raises Invalid naming the place."""
    taken = actions.take(doc.empty() | {"lines": lines}, words)
    asking.check(session, taken)
    found: list[Json] = taken["lines"]
    if any(line["type"] == "shared" for line in walk(found)):
        raise Invalid("A shared part cannot hold another one.", "lines")
    if not found:
        raise Invalid("The shared part is empty.", "lines")
    return found


def follow(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    part: SharedPart,
    message_ids: Collection[int],
) -> list[Message]:
    """Lets the chosen messages take the newest version of a part, each as a new draft; the others
    keep theirs."""
    followed = []
    for message, versions in queries.users_of_part(session, part.id):
        if message.id not in message_ids or versions == {part.version}:
            continue
        session.refresh(message, with_for_update=True)
        raised = message.document | {"lines": _raised(message.document["lines"], part)}
        actions.next_draft(
            session,
            actor,
            now,
            message,
            raised,
            f"shared part “{part.name}” updated to version {part.version}",
        )
        audit.record(
            session,
            actor,
            now,
            "updated a shared part",
            "message",
            message.id,
            message.name,
            part=part.name,
        )
        followed.append(message)
    session.flush()
    return followed


def _raised(lines: list[Json], part: SharedPart) -> list[Json]:
    """Lines with the newest version of a part wherever it stands."""
    made = []
    for line in lines:
        if line["type"] == "shared" and line["part"] == part.id:
            line = line | {"version": part.version}
        elif line["type"] == "columns":
            line = line | {"columns": [_raised(held, part) for held in line["columns"]]}
        elif line["type"] == "only":
            line = line | {
                "cases": [
                    case | {"content": _raised(case["content"], part)} for case in line["cases"]
                ],
                "otherwise": _raised(line["otherwise"], part),
            }
        made.append(line)
    return made


def delete_part(session: orm.Session, actor: Actor, now: dt.datetime, part: SharedPart) -> None:
    """Deletes a part nobody uses. Raises Conflict naming the messages that do."""
    used = [m.name for m, _ in queries.users_of_part(session, part.id)]
    if used:
        raise Conflict(
            Wording(
                "This shared part is used in %(messages)s. Remove it there first.",
                messages=", ".join(f"“{n}”" for n in used[:5]),
            )
        )
    audit.record(session, actor, now, "deleted", "shared part", part.id, part.name)
    session.delete(part)
