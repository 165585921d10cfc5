"""Signing in and out, the second step, one's own password, and what one is told by email."""

import datetime as dt
import re

import flask
from markupsafe import Markup
from werkzeug.wrappers import Response

from meadowrun.base import audit, clock
from meadowrun.base.audit import SYSTEM, Actor, record
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.shell import accounts, passwords, second_step, telling
from meadowrun.shell.models import User
from meadowrun.shell.request import Answer, actor, db, done, notice, now, public, settings

pages = flask.Blueprint("sign_in", __name__)
#: An address within this application.
_ONWARDS = re.compile(r"/(?:[^\s/\\\x00-\x1f\x7f][^\s\\\x00-\x1f\x7f]*)?")
_KNOWN = "meadowrun_known"


def _onwards(to: str) -> str:
    # Only onwards within this application: browsers drop tabs and line ends, and read a backslash
    # as a slash.
    return to if _ONWARDS.fullmatch(to) else "/"


def _token() -> str:
    return flask.request.cookies.get(accounts.cookie(settings()), "")


def _place() -> str:
    return flask.request.remote_addr or ""


@pages.get("/sign-in")
@public
def form() -> Answer:
    return flask.render_template(
        "sign_in.html", to=flask.request.args.get("to", "/"), email="", problem=""
    )


@pages.post("/sign-in")
@public
def enter() -> Answer:
    given = flask.request.form
    to, email = _onwards(given.get("to", "/")), given.get("email", "")
    entry = accounts.sign_in(
        db(),
        clock.machine_now(),
        email,
        given.get("password", ""),
        _place(),
        flask.request.cookies.get(_KNOWN, ""),
        settings().secret,
    )
    if entry is None:
        _refused(email[:100])
        page = flask.render_template(
            "sign_in.html",
            to=to,
            email=email,
            problem="The email address or the password is not right. Check both and try again.",
        )
        return page, 422
    if not entry.halfway:
        return _entered(entry.user, entry.token, to)
    response = flask.redirect(flask.url_for("sign_in.code", to=to), 303)
    _give(response, accounts.cookie(settings()), entry.token, int(accounts.HALFWAY.total_seconds()))
    return response


@pages.get("/sign-in/code")
@public
def code() -> Answer:
    user = accounts.halfway(db(), clock.machine_now(), _token())
    if user is None:
        return flask.redirect(flask.url_for("sign_in.form"))
    return flask.render_template(
        "code.html", to=_onwards(flask.request.args.get("to", "/")), problem=""
    )


@pages.post("/sign-in/code")
@public
def enter_code() -> Answer:
    to, moment = _onwards(flask.request.form.get("to", "/")), clock.machine_now()
    user = accounts.halfway(db(), moment, _token())
    if user is None:
        return flask.redirect(flask.url_for("sign_in.form", to=to), 303)
    token = accounts.finish(
        db(), moment, settings(), user, _token(), flask.request.form.get("code", ""), _place()
    )
    if token is None:
        _refused(user.email)
        page = flask.render_template(
            "code.html",
            to=to,
            problem="That code is not right, or was used already. Type the newest one.",
        )
        return page, 422
    return _entered(user, token, to)


def _refused(email: str) -> None:
    record(db(), SYSTEM, now(), audit.REFUSED, "user", None, email, place=_place())
    db().commit()


def _entered(user: User, token: str, to: str) -> Response:
    who = Actor(user.id, user.name, user.role, flask.g.request_id)
    record(db(), who, now(), audit.SIGNED_IN, "user", user.id, user.name, place=_place())
    # Whatever this browser held before, somebody may have given it.
    flask.session.clear()
    response = flask.redirect(to, 303)
    _give(response, accounts.cookie(settings()), token, int(accounts.LASTS.total_seconds()))
    _give(
        response,
        _KNOWN,
        accounts.known_browser(settings().secret, user),
        int(accounts.KNOWN_FOR.total_seconds()),
    )
    return response


def _give(response: Response, name: str, value: str, seconds: int) -> None:
    response.set_cookie(
        name, value, max_age=seconds, httponly=True, samesite="Lax", secure=settings().cookie_secure
    )


@pages.post("/sign-out")
def leave() -> Answer:
    accounts.sign_out(db(), _token())
    flask.session.clear()
    response = flask.redirect(flask.url_for("sign_in.form"), 303)
    # Whoever uses this machine next finds nothing of it.
    response.headers["Clear-Site-Data"] = '"cache", "storage"'
    response.delete_cookie(accounts.cookie(settings()), secure=settings().cookie_secure)
    return response


@pages.get("/password")
def own() -> Answer:
    return _own(None)


def _own(problem: MeadowrunError | None) -> str:
    return flask.render_template(
        "password.html",
        problem=problem,
        codes_left=second_step.left(db(), flask.g.user),
        required=second_step.required(settings(), flask.g.user),
        this=accounts.token_hash(_token()),
        browsers=accounts.sign_ins(db(), clock.machine_now(), flask.g.user),
    )


@pages.post("/password/browsers")
def sign_out_browsers() -> Answer:
    """Signs out one browser of one's own, or all but this one."""
    chosen = flask.request.form.get("browser", "")
    if chosen:
        accounts.sign_out_one(db(), now(), actor(), flask.g.user, chosen)
    else:
        accounts.sign_out_others(db(), now(), actor(), flask.g.user, accounts.token_hash(_token()))
    return done(
        "sign_in.own",
        "That browser is signed out." if chosen else "Every other browser is signed out.",
    )


@pages.post("/password/strength")
@public
def strength() -> Answer:
    """How a password that somebody is thinking of would be judged; it is kept nowhere."""
    given, token = flask.request.form, _token()
    signed_in = (
        accounts.signed_in(
            db(), clock.machine_now(), token, dt.timedelta(minutes=settings().idle_minutes)
        )
        if token
        else None
    )
    user = signed_in or accounts.invited(
        db(), settings().secret, given.get("token", ""), clock.machine_now()
    )
    if user is None:
        # Judging takes some time, which strangers are not given.
        flask.abort(404)
    about = (user.email, user.name, settings().organisation)
    try:
        passwords.judge(given.get("new", "")[:200], about)
    except Invalid as problem:
        return flask.jsonify(good=False, says=str(problem))
    return flask.jsonify(good=True, says="This one is strong.")


@pages.get("/invited/<token>")
@public
def invited(token: str) -> Answer:
    user = accounts.invited(db(), settings().secret, token, clock.machine_now())
    page = flask.render_template("invited.html", invited=user, token=token, problem=None)
    return page if user else (page, 404)


@pages.post("/invited/<token>")
@public
def accept(token: str) -> Answer:
    user = accounts.invited(db(), settings().secret, token, clock.machine_now())
    if user is None:
        return flask.render_template("invited.html", invited=None, token=token, problem=None), 404
    try:
        accounts.accept(
            db(), now(), settings(), user, flask.request.form.get("new", ""), flask.g.request_id
        )
    except Invalid as problem:
        db().rollback()
        return flask.render_template(
            "invited.html", invited=user, token=token, problem=problem
        ), 422
    notice("Your password is set. You can sign in now.")
    return flask.redirect(flask.url_for("sign_in.form"), 303)


@pages.post("/password")
def change_password() -> Answer:
    given = flask.request.form
    try:
        accounts.change_password(
            db(),
            clock.machine_now(),
            actor(),
            flask.g.user,
            settings(),
            given.get("old", ""),
            given.get("new", ""),
            _token(),
            given.get("code", ""),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _own(problem), problem.status
    return done("home.today", "Your password was changed. Every other browser was signed out.")


@pages.post("/password/told")
def told() -> Answer:
    """Whether one wishes to be told by email what waits for one."""
    user = flask.g.user
    user.told = flask.request.form.get("told") == "yes"
    return done(
        "sign_in.own",
        Wording("What is waiting for you is sent to %(email)s.", email=user.email)
        if user.told
        else "You get no notifications by email.",
    )


@pages.get("/second-step")
def begin_second_step() -> Answer:
    if flask.g.user.second_step:
        return flask.redirect(flask.url_for("sign_in.own"))
    return _set_up(second_step.new_secret(), None)


def _set_up(secret: str, problem: MeadowrunError | None) -> str:
    user, organisation = flask.g.user, settings().organisation
    return flask.render_template(
        "second_step.html",
        secret=secret,
        problem=problem,
        codes=None,
        required=second_step.required(settings(), user),
        picture=Markup(second_step.picture(user, organisation, secret)),
    )


@pages.post("/second-step")
def set_up_second_step() -> Answer:
    given, moment, user = flask.request.form, clock.machine_now(), flask.g.user
    secret = given.get("secret", "")
    try:
        accounts.prove(db(), moment, settings(), user, given.get("password", ""))
        codes = second_step.set_up(
            db(),
            moment,
            actor(),
            user,
            settings(),
            secret,
            given.get("code", ""),
            accounts.token_hash(_token()),
        )
        telling.tell_always(
            db(),
            moment,
            user.id,
            "Your sign-in asks for a code now",
            (
                "A second step was set up for you. If that was not you, ask an administrator to "
                "turn it off."
            ),
            "/password",
        )
    except Invalid as problem:
        db().rollback()
        fits = len(secret) == len(second_step.new_secret()) and secret.isalnum()
        return _set_up(
            secret if fits and secret.isascii() else second_step.new_secret(), problem
        ), problem.status
    return _codes(codes)


def _codes(codes: list[str]) -> str:
    # Shown in this answer only: just their hashes are kept.
    return flask.render_template("second_step.html", codes=codes, problem=None)


@pages.post("/second-step/codes")
def new_codes() -> Answer:
    problem = _prove()
    return (
        (_own(problem), problem.status)
        if problem
        else _codes(second_step.new_codes(db(), flask.g.user, settings()))
    )


@pages.post("/second-step/off")
def turn_off() -> Answer:
    problem = _prove()
    if problem is None and second_step.required(settings(), flask.g.user):
        problem = Invalid(
            "Your role needs a second step. Set up another app in place of this one by an "
            "administrator."
        )
    if problem:
        return _own(problem), problem.status
    second_step.turn_off(db(), clock.machine_now(), actor(), flask.g.user)
    telling.tell_always(
        db(),
        clock.machine_now(),
        flask.g.user.id,
        "Your sign-in asks for no code any more",
        "Your second step was turned off. If that was not you, change your password at once.",
        "/password",
    )
    return done("sign_in.own", "The second step is off: your password alone lets you in.")


def _prove() -> MeadowrunError | None:
    given = flask.request.form
    try:
        accounts.prove(
            db(),
            clock.machine_now(),
            settings(),
            flask.g.user,
            given.get("password", ""),
            given.get("code", ""),
        )
    except MeadowrunError as problem:
        db().rollback()
        return problem
    return None
