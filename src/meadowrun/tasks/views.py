"""The page of tasks: what colleagues are asked to do, for whom, and until when."""

import datetime as dt

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.tasks import KINDS, PRIORITIES
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
)
from meadowrun.tasks import actions, queries
from meadowrun.tasks.models import STATES

pages = flask.Blueprint("tasks", __name__, url_prefix="/tasks")


@pages.get("")
def table() -> Answer:
    """My open tasks, or everybody's, or finished ones."""
    whose, state = flask.request.args.get("of", "mine"), flask.request.args.get("state", "open")
    if state not in STATES or whose not in ("mine", "all"):
        flask.abort(404)
    me = actor().user_id
    return flask.render_template(
        "tasks/table.html",
        rows=queries.tasks(db(), me if whose == "mine" else None, state),
        elsewhere=queries.open_tasks(db()) if whose == "mine" and state == "open" else 0,
        whose=whose,
        state=state,
        kinds=KINDS,
        priorities=PRIORITIES,
        colleagues=queries.colleagues(db()),
        absence=queries.absence(db(), me) if me is not None else None,
        late=now(),
        most=queries.MOST,
    )


@pages.post("/<int:ident>/finish")
@needs("viewer")
def finish(ident: int) -> Answer:
    """Says what came of a task."""
    form = flask.request.form
    task = queries.task(db(), ident)
    try:
        actions.finish(db(), actor(), now(), task, form.get("state", ""), form.get("outcome", ""))
    except MeadowrunError as problem:
        return not_done(problem, "tasks.table")
    return done("tasks.table")


@pages.post("/<int:ident>/hand-over")
@needs("viewer")
def hand_over(ident: int) -> Answer:
    """Gives a task to another colleague."""
    task = queries.task(db(), ident)
    try:
        user = integer(flask.request.form.get("user"), "user")
        actions.hand_over(db(), actor(), now(), task, user)
    except MeadowrunError as problem:
        return not_done(problem, "tasks.table")
    return done("tasks.table")


@pages.post("/away")
@needs("viewer")
def away() -> Answer:
    """Sets when whoever is signed in is away."""
    form, me = flask.request.form, actor().user_id
    try:
        if me is not None:
            actions.set_away(db(), me, _day(form.get("first")), _day(form.get("last")))
    except MeadowrunError as problem:
        return not_done(problem, "tasks.table")
    return done("tasks.table")


def _day(text: str | None) -> dt.date | None:
    """A day of a form; None for an empty field. Raises Invalid."""
    if not text:
        return None
    try:
        return dt.date.fromisoformat(text)
    except ValueError:
        raise Invalid("That is not a date. Write it like 2026-12-24.", "first") from None
