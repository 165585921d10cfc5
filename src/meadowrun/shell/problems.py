"""The one place where errors become pages or JSON."""

import flask
import flask_wtf.csrf
import psycopg
import sqlalchemy.exc
import werkzeug.exceptions

from meadowrun.base.errors import Conflict, Invalid, MeadowrunError, NotAllowed, TooMany
from meadowrun.base.logs import log
from meadowrun.core.language import Wording, in_language, worded
from meadowrun.shell.request import Answer, db, path_for_logs

_TITLES = {
    401: Wording("Please sign in"),
    403: Wording("Not for your role"),
    404: Wording("Page not found"),
    409: Wording("No longer possible"),
    413: Wording("Too large"),
    422: Wording("This cannot be saved"),
    429: Wording("Too many attempts"),
    503: Wording("Temporarily unavailable"),
}


def wants_json() -> bool:
    best = flask.request.accept_mimetypes.best_match(["text/html", "application/json"])
    return (
        flask.request.path.startswith("/api/")
        or best == "application/json"
        or flask.request.is_json
    )


def answer(
    message: str, status: int, where: str | None = None, newest: int | None = None
) -> tuple[flask.Response | str, int]:
    """An error as the asker can use it: JSON for scripts, a page for people."""
    message = worded(message)
    if wants_json():
        more = {"newest": newest} if newest is not None else {}
        return flask.jsonify(
            error=in_language(message), where=where, request=flask.g.get("request_id"), **more
        ), status
    page = flask.render_template(
        "problem.html",
        title=_TITLES.get(status, "Something went wrong"),
        message=message,
        status=status,
    )
    return page, status


def register(app: flask.Flask) -> None:
    """Makes every error that reaches a page a page, or JSON."""
    app.register_error_handler(MeadowrunError, _ours)
    app.register_error_handler(flask_wtf.csrf.CSRFError, _forged)
    app.register_error_handler(sqlalchemy.exc.OperationalError, _away)
    app.register_error_handler(psycopg.DataError, _not_kept)
    app.register_error_handler(sqlalchemy.exc.DataError, _not_kept)
    app.register_error_handler(sqlalchemy.exc.IntegrityError, _clashes)
    app.register_error_handler(werkzeug.exceptions.HTTPException, _plain)
    app.register_error_handler(Exception, _fault)


def _ours(problem: MeadowrunError) -> Answer:
    if isinstance(problem, NotAllowed | TooMany):
        # Who tries doors is to be seen by whoever reads the logs.
        user = flask.g.get("user")
        log.warning(
            "refused",
            path=path_for_logs(),
            method=flask.request.method,
            user=user.id if user else None,
            place=flask.request.remote_addr,
            status=problem.status,
        )
    return answer(
        str(problem),
        problem.status,
        problem.where if isinstance(problem, Invalid) else None,
        problem.newest if isinstance(problem, Conflict) else None,
    )


def _forged(problem: flask_wtf.csrf.CSRFError) -> Answer:
    return answer(
        "This page was open too long, or the form came from elsewhere. Reload it and try again.",
        400,
    )


def _away(problem: sqlalchemy.exc.OperationalError) -> Answer:
    log.error("database away", problem=str(problem.__cause__ or problem)[:300])
    message = Wording(
        "The database is not answering at the moment. What you typed is still in your window: try "
        "again shortly."
    )
    if wants_json():
        return flask.jsonify(error=in_language(message)), 503
    return flask.render_template("plain_problem.html", message=message), 503


def _not_kept(problem: psycopg.DataError | sqlalchemy.exc.DataError) -> Answer:
    """What no column can hold, wherever it was typed."""
    cause = problem.orig if isinstance(problem, sqlalchemy.exc.DataError) else problem
    said = str(cause)
    if isinstance(cause, psycopg.errors.NumericValueOutOfRange):
        message = Wording(
            "A number is larger than can be stored. Look at what was typed, or at the address."
        )
    elif "NUL" in said or "\\u0000" in said:
        message = Wording(
            "Something here holds a character that cannot be stored (NUL, often copied along from "
            "another program). Take it out and try again."
        )
    else:
        return _fault(problem)
    db().rollback()
    return answer(message, 422)


def _clashes(problem: sqlalchemy.exc.IntegrityError) -> Answer:
    """What was chosen went meanwhile, or somebody did the same at the same moment."""
    db().rollback()
    if isinstance(problem.orig, psycopg.errors.ForeignKeyViolation):
        return answer(
            "Something that was chosen here does not exist any more. Reload the page and choose "
            "again.",
            422,
        )
    if isinstance(problem.orig, psycopg.errors.UniqueViolation):
        return answer("Somebody did the same at the same moment. Reload the page to see it.", 409)
    return _fault(problem)


def _plain(problem: werkzeug.exceptions.HTTPException) -> Answer:
    words = {
        404: Wording(
            "There is nothing at this address. It may have been deleted, or the link is incomplete."
        ),
        405: Wording("This address cannot be used in that way."),
        413: Wording(
            "The file is larger than 200 MB. Cut it into parts, or leave out columns you do not "
            "need."
        ),
    }
    code = problem.code or 500
    return answer(words.get(code, problem.description or ""), code)


def _fault(problem: Exception) -> Answer:
    log.exception("fault", path=path_for_logs())
    if "db" in flask.g:
        # The page that says so asks the database, too.
        flask.g.db.rollback()
    return answer(
        Wording(
            "Something went wrong on our side. It was logged under the number %(number)s; "
            "nothing was changed.",
            number=flask.g.get("request_id", "?"),
        ),
        500,
    )
