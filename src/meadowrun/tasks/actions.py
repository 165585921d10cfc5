"""Verbs of tasks: given to colleagues in turn, done, handed over; colleagues are away."""

import dataclasses
import datetime as dt
from collections.abc import Sequence

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.language import Wording
from meadowrun.core.tasks import KINDS, next_in_turn
from meadowrun.people.models import EventKind
from meadowrun.shell.models import User
from meadowrun.shell.telling import tell
from meadowrun.tasks.models import Absence, ColleagueTask
from meadowrun.tracking.taking import take_events

#: The kind of event that a finished task comes back as.
DONE = "task_done"


@dataclasses.dataclass(frozen=True, slots=True)
class Wanted:
    """What is asked of colleagues, and by what."""

    kind: str
    priority: str
    due: dt.timedelta
    #: who may get it, in turn
    colleagues: tuple[int, ...]
    source: str
    source_id: int
    step: str


@dataclasses.dataclass(frozen=True, slots=True)
class Given:
    """One task: for which contact, a name that no two tasks share, and what is to be done."""

    contact_id: int
    about: str
    subject: str


def give(
    session: orm.Session,
    now: dt.datetime,
    today: dt.date,
    wanted: Wanted,
    people: Sequence[Given],
) -> int:
    """Gives a task for each of some contacts; one that was given before is not given again. Says
    how many were given. Where everybody asked is away or gone, they are nobody's, and admins are
    shown them."""
    known = set(
        session.scalars(
            sa.select(ColleagueTask.about).where(
                ColleagueTask.about.in_([one.about for one in people])
            )
        )
    )
    there = set(
        session.scalars(
            sa.text("SELECT id FROM contacts WHERE id = ANY(:ids)"),
            {"ids": [one.contact_id for one in people]},
        )
    )
    fresh = [one for one in people if one.about not in known and one.contact_id in there]
    turns = next_in_turn(
        _active(session, wanted.colleagues),
        away(session, today),
        _last(session, wanted),
        len(fresh),
    )
    given: dict[int, list[str]] = {}
    for place, one in enumerate(fresh):
        user = turns[place] if turns else None
        session.add(
            ColleagueTask(
                contact_id=one.contact_id,
                kind=wanted.kind,
                subject=one.subject,
                priority=wanted.priority,
                due_at=now + wanted.due,
                user_id=user,
                source=wanted.source,
                source_id=wanted.source_id,
                step=wanted.step,
                about=one.about,
                # One after the other, so that turns can be told.
                created_at=now + dt.timedelta(microseconds=place),
            )
        )
        if user is not None:
            given.setdefault(user, []).append(one.subject)
    session.flush()
    for user, subjects in given.items():
        subject = Wording("%(kind)s: %(subject)s", kind=KINDS[wanted.kind], subject=subjects[0])
        said = Wording("New for you: %(count)s.", count=len(subjects))
        about = f"task:{wanted.source}:{wanted.source_id}:{wanted.step}:{now.isoformat()}"
        tell(session, now, user, about, str(subject), str(said), "/tasks")
    return len(fresh)


def note_kind(session: orm.Session) -> None:
    """Sees that what comes back of tasks is a kind of event that can be waited for."""
    if session.scalar(sa.select(EventKind.id).where(EventKind.key == DONE)) is None:
        details = {key: {"label": key, "type": "text"} for key in ("task", "subject", "outcome")}
        session.add(
            EventKind(key=DONE, did="had a task done", do="have a task done", details=details)
        )
        session.flush()


def _active(session: orm.Session, colleagues: Sequence[int]) -> list[int]:
    asked = sa.select(User.id).where(User.id.in_(colleagues), User.active)
    found = set(session.scalars(asked))
    return [one for one in colleagues if one in found]


def _last(session: orm.Session, wanted: Wanted) -> dict[int, dt.datetime]:
    """When each colleague last got one of these tasks."""
    asked = (
        sa.select(ColleagueTask.user_id, sa.func.max(ColleagueTask.created_at))
        .where(
            ColleagueTask.source == wanted.source,
            ColleagueTask.source_id == wanted.source_id,
            ColleagueTask.step == wanted.step,
            ColleagueTask.user_id.is_not(None),
        )
        .group_by(ColleagueTask.user_id)
    )
    return {user: at for user, at in session.execute(asked) if user is not None}


def away(session: orm.Session, today: dt.date) -> frozenset[int]:
    """Who is away on a day."""
    asked = sa.select(Absence.user_id).where(Absence.first <= today, Absence.last >= today)
    return frozenset(session.scalars(asked))


def finish(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    task: ColleagueTask,
    state: str,
    outcome: str,
) -> None:
    """Says what came of a task; one that was done comes back as an event of the contact. Raises
    Conflict where it is finished already, Invalid."""
    session.refresh(task, with_for_update=True)
    if task.state != "open":
        raise Conflict("Somebody finished this task already.")
    if state not in ("done", "not_needed"):
        raise Invalid("Say whether it is done or not needed.")
    task.state, task.outcome = state, " ".join(outcome.split())[:500]
    task.done_at, task.done_by = now, actor.name
    session.flush()
    if state == "done":
        details = {"task": task.kind, "subject": task.subject, "outcome": task.outcome}
        row = {
            "event": DONE,
            "contact": task.contact_id,
            "id": f"task-{task.id}",
            "at": now.isoformat(),
            "details": details,
        }
        take_events(session, now, "tasks", [row])
    did = "finished the task" if state == "done" else "set the task to not needed"
    audit.record(session, actor, now, did, "task", task.id, task.subject)


def hand_over(
    session: orm.Session, actor: Actor, now: dt.datetime, task: ColleagueTask, user_id: int
) -> None:
    """Gives an open task to another colleague. Raises Conflict, Invalid."""
    session.refresh(task, with_for_update=True)
    if task.state != "open":
        raise Conflict("Somebody finished this task already.")
    user = session.get(User, user_id)
    if user is None or not user.active:
        raise Invalid("Choose a colleague.", "user")
    task.user_id = user.id
    session.flush()
    said = Wording("New for you: %(count)s.", count=1)
    tell(session, now, user.id, f"task:{task.id}:{now.isoformat()}", task.subject, said, "/tasks")
    audit.record(session, actor, now, f"gave {user.name} the task", "task", task.id, task.subject)


def set_away(
    session: orm.Session, user_id: int, first: dt.date | None, last: dt.date | None
) -> None:
    """Keeps new tasks from a colleague from one day to another, both counted; None: no more. Raises
    Invalid."""
    session.execute(sa.delete(Absence).where(Absence.user_id == user_id))
    if first is None and last is None:
        return
    if first is None or last is None or last < first:
        raise Invalid("Give the first and the last day, in that order.", "first")
    session.add(Absence(user_id=user_id, first=first, last=last))
    session.flush()
