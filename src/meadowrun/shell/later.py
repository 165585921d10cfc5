"""Pages that are dear to work out on a large world: the frame is there at once, what is dear comes
in by itself and can be stopped."""

import contextlib
import functools
import re
import time
from collections.abc import Callable
from typing import Any

import flask
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.clock import machine_now
from meadowrun.base.large import is_large
from meadowrun.shell.request import actor, db, settings

#: For this transaction only: by it the work is found when somebody stops it.
_NAMED = "SELECT set_config('application_name', :name, true)"
#: Whether each of its backends had a statement that was cancelled; between two there is none.
_STOP = """SELECT state = 'active' AND pg_cancel_backend(pid) FROM pg_stat_activity
WHERE application_name = :name AND usename = current_user AND datname = current_database()"""
#: A page that was worked out waits for the browser to come for it; what nobody came for goes.
_KEEP = """WITH old AS (DELETE FROM later_pages WHERE at < :now - interval '10 minutes')
INSERT INTO later_pages (token, user_id, at, html) VALUES (:token, :user, :now, :html)"""
_FETCH = "DELETE FROM later_pages WHERE token = :token AND user_id = :user RETURNING html"
#: So often a stop is tried, and so many seconds apart.
_TRIES, _BETWEEN = 50, 0.02
COOKIE = "meadowrun_later"
_TOKEN = re.compile(r"[a-z0-9]{8,32}\Z")


def comes_later(
    working: str, when: type[Exception] | None = None
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """A page that may take long on a large world; `working` says what is worked out meanwhile.

    The frame's script asks for the same address with a token. The page is then worked out and kept;
    and when the browser comes again, with the token in a cookie, it is given that. With `when`, the
    page is quick as a rule, and raises that where it is not.
    """

    def decorate(view: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(view)
        def guarded(*arguments: Any, **given: Any) -> Any:
            if flask.request.method != "GET" or not is_large(db()):
                return view(*arguments, **given)
            if is_behind():
                token = flask.request.headers["X-Later"]
                named(db(), token)
                return _kept(flask.make_response(view(*arguments, **given)), token)
            found = _fetched()
            if found is None and when is not None:
                with contextlib.suppress(when):
                    return view(*arguments, **given)
            return found or flask.render_template("later.html", working=working)

        return guarded

    return decorate


def is_behind() -> bool:
    """Whether this request works a page out behind its frame, so that it may take long."""
    return bool(_TOKEN.match(flask.request.headers.get("X-Later", "")))


def named(session: orm.Session, token: str) -> None:
    """Gives the work of this transaction the name by which `stop` finds it. What is no token names
    nothing."""
    if _TOKEN.match(token):
        session.execute(sa.text(_NAMED), {"name": f"later-{token}"})


def _kept(made: flask.Response, token: str) -> flask.Response:
    """Keeps a page and answers with the cookie by which it is fetched; what is no page, like a
    redirection, is answered as it is."""
    if made.status_code != 200 or made.mimetype != "text/html":
        return made
    db().execute(
        sa.text(_KEEP),
        {
            "token": token,
            "user": actor().user_id,
            "now": machine_now(),
            "html": made.get_data(as_text=True),
        },
    )
    answer = flask.jsonify(ready=True)
    answer.set_cookie(
        COOKIE,
        token,
        max_age=60,
        path=flask.request.path,
        httponly=True,
        samesite="Lax",
        secure=settings().cookie_secure,
    )
    return answer


def _fetched() -> flask.Response | None:
    """The page that was worked out for this browser, once; None where there is none."""
    token = flask.request.cookies.get(COOKIE, "")
    html = (
        db().scalar(sa.text(_FETCH), {"token": token, "user": actor().user_id})
        if _TOKEN.match(token)
        else None
    )
    if html is None:
        return None
    answer = flask.make_response(html)
    answer.delete_cookie(COOKIE, path=flask.request.path)
    return answer


def stop(session: orm.Session, token: str) -> bool:
    """Stops what is worked out under a token; False when nothing is. What is between two statements
    just then is stopped in the next one."""
    if not _TOKEN.match(token):
        return False
    stopped = False
    for _ in range(_TRIES):
        # What is seen of others stays the same within a transaction otherwise.
        session.execute(sa.text("SELECT pg_stat_clear_snapshot()"))
        found = session.scalars(sa.text(_STOP), {"name": f"later-{token}"}).all()
        stopped = stopped or any(found)
        if not found:
            break
        time.sleep(_BETWEEN)
    return stopped
