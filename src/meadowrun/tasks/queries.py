"""What is read of tasks."""

import dataclasses

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import existing
from meadowrun.people.models import Contact
from meadowrun.shell.models import User
from meadowrun.tasks.models import Absence, ColleagueTask

#: So many are shown.
MOST = 200


@dataclasses.dataclass(frozen=True, slots=True)
class Row:
    """A task with the contact that it is about, and whose it is."""

    task: ColleagueTask
    contact: Contact
    colleague: str


def task(session: orm.Session, ident: int) -> ColleagueTask:
    """One task. Raises NotFound."""
    return existing(session, ColleagueTask, ident, "task")


def tasks(session: orm.Session, user_id: int | None, state: str) -> list[Row]:
    """Tasks that stand one way, those that are due first; of one colleague where one is given,
    with those that are nobody's."""
    asked = (
        sa.select(ColleagueTask, Contact, User.name)
        .join(Contact, Contact.id == ColleagueTask.contact_id)
        .outerjoin(User, User.id == ColleagueTask.user_id)
        .where(ColleagueTask.state == state)
        .order_by(ColleagueTask.due_at, ColleagueTask.id)
        .limit(MOST)
    )
    if user_id is not None:
        mine = sa.or_(ColleagueTask.user_id == user_id, ColleagueTask.user_id.is_(None))
        asked = asked.where(mine)
    if state != "open":
        asked = asked.order_by(None).order_by(ColleagueTask.done_at.desc())
    return [Row(one, contact, name or "") for one, contact, name in session.execute(asked)]


def open_tasks(session: orm.Session) -> int:
    """How many tasks are open, whosever they are."""
    asked = sa.select(sa.func.count()).where(ColleagueTask.state == "open")
    return session.scalar(asked) or 0


def of_contact(session: orm.Session, contact_id: int) -> list[ColleagueTask]:
    """The tasks about a contact, the newest first."""
    asked = sa.select(ColleagueTask).where(ColleagueTask.contact_id == contact_id)
    return list(session.scalars(asked.order_by(ColleagueTask.id.desc()).limit(6)))


def colleagues(session: orm.Session) -> list[User]:
    """Everybody who can get a task, by name."""
    return list(session.scalars(sa.select(User).where(User.active).order_by(User.name)))


def absence(session: orm.Session, user_id: int) -> Absence | None:
    """When a colleague is away."""
    return session.get(Absence, user_id)
