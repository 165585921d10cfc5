"""The page of keys: of websites and of programs."""

import flask

from meadowrun.base.clock import machine_now
from meadowrun.base.db import existing
from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.shell import keys
from meadowrun.shell.models import SCOPES, ApiKey
from meadowrun.shell.request import Answer, actor, db, done, needs, notice, now

pages = flask.Blueprint("keys", __name__)


@pages.get("/connections")
@needs("author")
def table() -> Answer:
    return _table(None, None)


def _table(fresh: str | None, problem: MeadowrunError | None) -> str:
    return flask.render_template(
        "keys.html",
        keys=keys.living(db()),
        fresh=fresh,
        problem=problem,
        scopes=SCOPES,
        lasts=keys.LASTS,
        moment=machine_now(),
        chosen=flask.request.form.getlist("may") if problem else ("read", "events"),
        given=flask.request.form if problem else {},
    )


@pages.post("/connections")
@needs("admin")
def add() -> Answer:
    form = flask.request.form
    try:
        days = form.get("days", "365")
        made, key = keys.make_key(
            db(),
            actor(),
            now(),
            form.get("name", ""),
            form.get("kind", ""),
            form.get("origins", ""),
            form.getlist("may"),
            int(days) if is_whole(days) else -1,
            form.get("use") == "direct",
        )
    except MeadowrunError as problem:
        db().rollback()
        return _table(None, problem), problem.status
    db().flush()
    notice(Wording("The key “%(name)s” can be used now.", name=made.name))
    # Shown once, in this answer; only its hash is kept, and no cookie carries it.
    return _table(key if made.kind == "secret" else None, None)


@pages.post("/connections/<int:ident>/retire")
@needs("admin")
def retire(ident: int) -> Answer:
    key = keys.retire_key(db(), actor(), now(), existing(db(), ApiKey, ident, "key"))
    return done("keys.table", Wording("The key “%(name)s” no longer works.", name=key.name))
