"""Tasks for colleagues, and the days on which colleagues are away."""

import datetime as dt

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.db import Base

#: How a task can stand.
STATES = ("open", "done", "not_needed")


class ColleagueTask(Base):
    """Something that a colleague is asked to do for a contact."""

    __tablename__ = "colleague_tasks"
    id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger, sa.Identity(), primary_key=True)
    contact_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("contacts.id", ondelete="CASCADE"), index=True
    )
    #: one of core.tasks.KINDS
    kind: orm.Mapped[str]
    subject: orm.Mapped[str]
    #: one of core.tasks.PRIORITIES
    priority: orm.Mapped[str]
    due_at: orm.Mapped[dt.datetime]
    #: whose it is; empty: nobody's yet
    user_id: orm.Mapped[int | None] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="SET NULL")
    )
    state: orm.Mapped[str] = orm.mapped_column(
        sa.Text,
        sa.CheckConstraint("state IN ('open', 'done', 'not_needed')", name="state"),
        server_default="open",
    )
    #: the outcome, in the colleague's words
    outcome: orm.Mapped[str] = orm.mapped_column(server_default="")
    #: what asked for it (“journey”), of which number, at which step; and a name that no two tasks
    #: share, so that nothing asks twice
    source: orm.Mapped[str]
    source_id: orm.Mapped[int] = orm.mapped_column(sa.BigInteger)
    step: orm.Mapped[str]
    about: orm.Mapped[str] = orm.mapped_column(unique=True)
    created_at: orm.Mapped[dt.datetime]
    done_at: orm.Mapped[dt.datetime | None]
    done_by: orm.Mapped[str] = orm.mapped_column(server_default="")
    __table_args__ = (
        sa.Index("ix_colleague_tasks_user", "user_id", "state", "due_at"),
        sa.Index("ix_colleague_tasks_source", "source", "source_id", "step"),
    )


class Absence(Base):
    """Days on which a colleague is away and gets no new tasks."""

    __tablename__ = "absences"
    user_id: orm.Mapped[int] = orm.mapped_column(
        sa.ForeignKey("users.id", ondelete="CASCADE"), primary_key=True
    )
    first: orm.Mapped[dt.date]
    last: orm.Mapped[dt.date]
