"""The web application: configuration, security headers, one transaction a request, and the
features' pages."""

import contextlib
import datetime as dt
import pathlib
import re
import secrets
import time
from typing import Any
from urllib.parse import urlsplit

import flask
import flask_wtf
import jinja2
import psycopg
import sqlalchemy.exc
import structlog
from werkzeug.middleware.proxy_fix import ProxyFix

from meadowrun.base import clock, jobs, own_writes, signing
from meadowrun.base.db import Database
from meadowrun.base.logs import log
from meadowrun.base.settings import Settings
from meadowrun.core import wording
from meadowrun.core.content import fillins
from meadowrun.core.content.lines import walk
from meadowrun.core.language import Wording
from meadowrun.features import STATIONS, features
from meadowrun.shell import (
    accounts,
    compiling,
    draw,
    hidden,
    language,
    problems,
    request,
    roles,
    second_step,
    waiting,
)

_ASSET = re.compile(r"\.(css|js|woff2|svg)\Z")
MOST_BYTES = 210_000_000


def create_app(settings: Settings, database: Database | None = None) -> flask.Flask:
    """The application for one set of settings."""
    app = flask.Flask("meadowrun.shell", static_folder="static")
    app.config.update(
        MEADOWRUN=settings,
        DATABASE=database or Database(settings.database_url),
        SECRET_KEY=settings.secret,
        MAX_CONTENT_LENGTH=MOST_BYTES,
        MAX_FORM_MEMORY_SIZE=5_000_000,
        SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SECURE=settings.cookie_secure,
        SESSION_COOKIE_NAME="meadowrun",
        WTF_CSRF_TIME_LIMIT=None,
        TEMPLATES_AUTO_RELOAD=False,
    )
    if settings.behind_proxy:
        # Never otherwise: anybody could claim to be anywhere.
        proxied = ProxyFix(app.wsgi_app, x_for=1, x_proto=1, x_host=1)
        app.wsgi_app = proxied  # type: ignore[method-assign]
    root = pathlib.Path(__file__).parent.parent
    app.jinja_loader = jinja2.FileSystemLoader([str(p) for p in sorted(root.glob("*/templates"))])
    app.jinja_env.undefined = jinja2.StrictUndefined
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    language.install(app)
    compiling.install(app)
    csrf = flask_wtf.CSRFProtect(app)
    app.config["FEATURES"] = loaded = features(settings.demo)
    stations: dict[str, str] = {}
    for one in loaded:
        one.load_tasks()
        for name, station in one.feature.pages.items():
            module = one.module(name)
            app.register_blueprint(module.pages)
            stations[module.pages.name] = station
            for view in getattr(module, "WITHOUT_CSRF", ()):
                csrf.exempt(view)
    app.config["STATIONS"] = stations
    jobs.set_context(jobs.Context(app.config["DATABASE"], settings))
    _wording(app)
    app.before_request(_before)
    app.after_request(_after)
    app.teardown_request(_teardown)
    problems.register(app)
    return app


def _before() -> Any:
    flask.g.request_id = secrets.token_hex(6)
    flask.g.started = time.perf_counter()
    structlog.contextvars.clear_contextvars()
    structlog.contextvars.bind_contextvars(request=flask.g.request_id)
    settings = request.settings()
    if (elsewhere := _of_files(settings)) is not None:
        return elsewhere
    own_writes.look_as("")
    _village_moment(settings)
    view = flask.current_app.view_functions.get(flask.request.endpoint or "")
    if view is None or flask.request.endpoint == "static" or getattr(view, "is_public", False):
        return None
    token = flask.request.cookies.get(accounts.cookie(settings))
    flask.g.user = (
        accounts.signed_in(
            request.db(),
            clock.machine_now(),
            token,
            dt.timedelta(minutes=settings.idle_minutes),
            "X-By-Itself" not in flask.request.headers,
        )
        if token
        else None
    )
    if flask.g.user is None:
        if flask.request.method == "GET" and not problems.wants_json():
            return flask.redirect(
                flask.url_for("sign_in.form", to=flask.request.full_path.rstrip("?"))
            )
        return problems.answer(
            "Your sign-in has ended. Sign in again in another window, then repeat this.", 401
        )
    flask.g.who = flask.g.user.name
    own_writes.look_as(flask.g.who)
    if (
        flask.g.user.second_step is None
        and second_step.required(settings, flask.g.user)
        and flask.request.endpoint not in _BEFORE_STEP
    ):
        if flask.request.method == "GET" and not problems.wants_json():
            return flask.redirect(flask.url_for("sign_in.begin_second_step"))
        return problems.answer(
            "Your role needs a second step at sign-in. Set it up first, under your name.", 403
        )
    return None


#: What serves files that somebody uploaded.
_FILES = ("files.picture", "files.document")


def _of_files(settings: Settings) -> Any:
    """Where files have a host of their own, they are served there and nothing else is: what hides
    in one is no page of ours."""
    if not settings.files_url:
        return None
    here, wanted = (
        flask.request.host == urlsplit(settings.files_url).netloc,
        flask.request.endpoint in _FILES,
    )
    if here and not wanted:
        return flask.Response("Nothing is here but files.", 404, mimetype="text/plain")
    if wanted and not here:
        return flask.redirect(settings.files_url + flask.request.full_path.rstrip("?"), 302)
    return None


#: What somebody may do whose second step is still to be set up.
_BEFORE_STEP = ("sign_in.begin_second_step", "sign_in.set_up_second_step", "sign_in.leave")


def _village_moment(settings: Settings) -> None:
    """In the demo, a request of the village's people may say when they made it, signed with the
    shared secret."""
    moment = flask.request.headers.get("X-Village-Moment")
    if (
        settings.demo
        and moment
        and signing.check_text(
            settings.secret, "moment", moment, flask.request.headers.get("X-Village-Signature", "")
        )
    ):
        flask.g.now = dt.datetime.fromisoformat(moment)


def _after(response: flask.Response) -> flask.Response:
    user = flask.g.get("user")
    if (
        user is not None
        and user.role != "admin"
        and response.mimetype == "text/html"
        and not response.is_streamed
    ):
        response.set_data(roles.marked(response.get_data(as_text=True), request.actor()))
    response = _settled(response)
    headers = response.headers
    headers.setdefault(
        "Content-Security-Policy",
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data: "
        f"{request.settings().files_url}; font-src 'self'; connect-src 'self'; frame-src 'self'; "
        "form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
    )
    headers.setdefault("X-Content-Type-Options", "nosniff")
    headers.setdefault("Referrer-Policy", "same-origin")
    headers.setdefault("X-Frame-Options", "DENY")
    headers.setdefault("Cross-Origin-Opener-Policy", "same-origin")
    if response.mimetype == "application/json" and flask.request.path.startswith("/api/"):
        # Opened in a browser it is saved, not shown as a page.
        headers.setdefault("Content-Disposition", 'attachment; filename="answer.json"')
    headers["X-Request-Id"] = flask.g.get("request_id", "")
    if request.settings().cookie_secure:
        headers.setdefault("Strict-Transport-Security", "max-age=31536000; includeSubDomains")
    if flask.request.endpoint == "static":
        headers["Cache-Control"] = (
            "public, max-age=31536000, immutable" if "v" in flask.request.args else "no-cache"
        )
    else:
        headers.setdefault("Cache-Control", "no-store")
        seconds = time.perf_counter() - flask.g.get("started", time.perf_counter())
        headers["Server-Timing"] = f"app;dur={seconds * 1000:.1f}"
        log.debug(
            "request",
            method=flask.request.method,
            path=request.path_for_logs(),
            status=response.status_code,
            ms=round(seconds * 1000, 1),
        )
    return response


def _settled(response: flask.Response) -> flask.Response:
    """Commits what a request did, or rolls it back when its answer is an error. What the database
    refuses only now is answered like anything else that cannot be taken."""
    if "db" not in flask.g:
        return response
    try:
        if response.status_code >= 400:
            flask.g.db.rollback()
        else:
            flask.g.db.commit()
    except (sqlalchemy.exc.SQLAlchemyError, psycopg.Error) as problem:
        flask.g.db.rollback()
        response = flask.make_response(flask.current_app.handle_user_exception(problem))
    else:
        if response.status_code < 400 and _changed_people():
            # The change itself is made: without this note its maker may see an old number for some
            # seconds.
            with contextlib.suppress(sqlalchemy.exc.SQLAlchemyError):
                own_writes.note(flask.g.db, flask.g.who)
    finally:
        flask.g.pop("db").close()
    return response


#: The parts of the house whose pages change people, or what is known of them.
_OF_PEOPLE = {"people", "keeping", "dictionary", "duplicates", "imports", "tags", "scores"}
_ONLY_LOOKS = {"api.count_segment"}


def _changed_people() -> bool:
    """Whether this request may have changed what segments count."""
    asked = flask.request
    if asked.method in ("GET", "HEAD", "OPTIONS") or asked.endpoint in _ONLY_LOOKS:
        return False
    return "who" in flask.g and (asked.blueprint in _OF_PEOPLE or "api_key" in flask.g)


def _teardown(problem: BaseException | None) -> None:
    for name in ("db", "reports"):
        session = flask.g.pop(name, None)
        if session is not None:
            session.rollback()
            session.close()


def _wording(app: flask.Flask) -> None:
    """What every template can say."""
    assets = [
        int(p.stat().st_mtime)
        for p in pathlib.Path(app.static_folder or "").rglob("*")
        if _ASSET.search(p.name)
    ]
    version = str(max(assets))
    app.jinja_env.filters.update(
        n=wording.number,
        day=wording.day,
        when=_when,
        clock=lambda m: wording.time(_local(m)),
        exact=lambda m: wording.seconds(_local(m)),
        time=wording.time,
        hour=lambda hour: wording.time(dt.time(hour)),
        weekday=wording.weekday,
        weekday_day=wording.weekday_day,
        long_month=wording.long_month,
        short_month=wording.short_month,
        percent=wording.percent,
        decimal=wording.decimal,
        signed=wording.signed,
        ago=lambda m: wording.ago((request.now() - m).total_seconds()),
        since=wording.ago,
        people=wording.people,
        named=fillins.named,
        held=wording.held,
        hidden=hidden.hide,
    )
    for one in app.config["FEATURES"]:
        app.jinja_env.filters.update(one.feature.filters)
        app.jinja_env.globals.update(one.feature.says)
    app.jinja_env.globals.update(
        parts_of=request.parts_of,
        share=wording.share,
        count_of=wording.count_of,
        joined=wording.joined,
        draw=draw,
        lines_in=lambda lines: sum(1 for _ in walk(lines)),
        asset=lambda name: flask.url_for("static", filename=name, v=version),
    )
    app.context_processor(_shell)


def _local(moment: dt.datetime) -> dt.datetime:
    """A moment on the organisation's clock."""
    return moment.astimezone(request.zone())


def _when(moment: dt.datetime | None) -> str:
    """23 Nov 2026, 14:02; today and yesterday by their names."""
    if moment is None:
        return ""
    here = _local(moment)
    time = wording.time(here)
    days = (request.today() - here.date()).days
    if days == 0:
        return Wording("today, %(time)s", time=time)
    if days == 1:
        return Wording("yesterday, %(time)s", time=time)
    return wording.moment(here)


def _shell() -> dict[str, Any]:
    """What every page is drawn with."""
    station = flask.current_app.config["STATIONS"].get(flask.request.blueprint or "", "")
    return {
        "settings": request.settings(),
        "stations": STATIONS,
        "station": flask.g.get("station", station),
        "user": flask.g.get("user"),
        "waits_for_me": waiting.mine,
        "shown_now": _local(request.now()) if request.settings().demo else None,
    }
