"""The page that says how long each kind of data is kept, and what would go."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.retention import rules
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, now

pages = flask.Blueprint("retention", __name__)


@pages.get("/retention")
@needs("admin")
def show() -> Answer:
    return _page(None)


def _page(problem: MeadowrunError | None) -> str:
    found = [(one, rules.older(db(), one.rule, one.months, now())) for one in rules.kept(db())]
    return flask.render_template(
        "retention/show.html", found=found, lengths=rules.MONTHS, problem=problem
    )


@pages.get("/retention/<kind>/older")
@needs("admin")
def older(kind: str) -> Answer:
    """How many rows of a kind are older than so many months: what choosing that would delete."""
    months = integer(flask.request.args.get("months", ""), "months")
    if kind not in rules.RULES or months not in rules.MONTHS:
        flask.abort(404)
    return flask.jsonify(older=rules.older(db(), rules.RULES[kind], months, now()))


@pages.post("/retention")
@needs("admin")
def change() -> Answer:
    form = flask.request.form
    try:
        for kind in rules.RULES:
            if kind in form:
                rules.set_months(db(), actor(), now(), kind, integer(form[kind], kind))
    except MeadowrunError as problem:
        db().rollback()
        return _page(problem), problem.status
    return done("retention.show", "Everything older is deleted tonight.")
