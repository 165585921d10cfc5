"""Who works here: administrators let people in, change their role and shut them out."""

import flask

from meadowrun.base import clock
from meadowrun.base.db import existing
from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.shell import accounts, telling
from meadowrun.shell.models import ROLES, User
from meadowrun.shell.request import Answer, actor, db, done, needs, now, settings

pages = flask.Blueprint("colleagues", __name__)
#: What each role may do, for who chooses one.
MAY = {
    "viewer": Wording("sees everything"),
    "author": Wording("writes, segments and imports"),
    "approver": Wording("also approves messages and starts sends"),
    "admin": Wording("also adds colleagues, and makes keys and senders"),
}


@pages.get("/colleagues")
@needs("admin")
def table() -> Answer:
    return _table(None)


def _table(problem: MeadowrunError | None, link: str = "", whose: str = "") -> str:
    rows = accounts.everyone(db())
    return flask.render_template(
        "colleagues.html",
        rows=[user for user, _ in rows],
        last={user.id: at for user, at in rows if at},
        roles=ROLES,
        may=MAY,
        problem=problem,
        given=flask.request.form if problem else {},
        link=link,
        whose=whose,
    )


def _invited(user: User) -> str:
    """The page with the link by which somebody sets their password, shown once; it is sent to them
    as well."""
    path = accounts.invitation(settings().secret, user, clock.machine_now())
    telling.tell_always(
        db(),
        now(),
        user.id,
        f"{actor().name} invited you to Meadowrun",
        "Set your password with this link within three days.",
        path,
    )
    return _table(None, settings().public_url + path, user.name)


@pages.post("/colleagues")
@needs("admin")
def add() -> Answer:
    form = flask.request.form
    try:
        made = accounts.add_user(
            db(),
            now(),
            form.get("email", ""),
            form.get("name", ""),
            form.get("role", ""),
            None,
            actor(),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _table(problem), problem.status
    return _invited(made)


@pages.post("/colleagues/<int:ident>")
@needs("admin")
def change(ident: int) -> Answer:
    form, user = flask.request.form, existing(db(), User, ident, "colleague")
    try:
        if form.get("step") == "off":
            accounts.reset_second_step(db(), now(), actor(), user)
            return done(
                "colleagues.table",
                Wording(
                    "%(name)s signs in by the password alone, until a second step is set up again.",
                    name=user.name,
                ),
            )
        if form.get("password") == "new":
            accounts.invite_again(db(), now(), actor(), user)
            return _invited(user)
        accounts.change_user(
            db(),
            now(),
            actor(),
            user,
            role=form.get("role"),
            active={"in": True, "out": False}.get(form.get("may", "")),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _table(problem), problem.status
    return done("colleagues.table", Wording("Changed: %(name)s.", name=user.name))
