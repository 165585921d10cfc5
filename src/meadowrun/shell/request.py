"""What a view has at hand: the session, the time, who asks, and how to answer. One transaction a
request."""

import csv
import datetime as dt
import functools
import io
import itertools
import zoneinfo
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from typing import Any

import flask
import orjson
from flask.typing import ResponseReturnValue
from markupsafe import Markup
from sqlalchemy import orm
from werkzeug.datastructures import FileStorage

from meadowrun.base import clock, jobs
from meadowrun.base.audit import SYSTEM, Actor
from meadowrun.base.db import Database
from meadowrun.base.errors import Invalid
from meadowrun.base.manifest import Dated, Feature, Use
from meadowrun.base.settings import Settings
from meadowrun.core.formulas import harmless
from meadowrun.core.language import Wording, in_language, worded
from meadowrun.core.values import is_whole
from meadowrun.gateways import scanner
from meadowrun.shell.accounts import may, require

#: What a view gives: a page, a redirection, JSON; with a status where it is not 200.
Answer = ResponseReturnValue


def settings() -> Settings:
    found: Settings = flask.current_app.config["MEADOWRUN"]
    return found


def database() -> Database:
    found: Database = flask.current_app.config["DATABASE"]
    return found


def db() -> orm.Session:
    """The request's session: committed when the answer is no error, rolled back otherwise."""
    if "db" not in flask.g:
        flask.g.db = database().sessions()
    session: orm.Session = flask.g.db
    return session


def reports() -> orm.Session:
    """The request's session for heavy reads: nothing is written by it."""
    if "reports" not in flask.g:
        flask.g.reports = jobs.context().reports.database().sessions()
    session: orm.Session = flask.g.reports
    return session


def now() -> dt.datetime:
    """The moment of this request: read once, so that everything on a page is as of one time."""
    if "now" not in flask.g:
        flask.g.now = clock.now(db())
    moment: dt.datetime = flask.g.now
    return moment


def uses_of(kind: str, ident: int) -> list[Use]:
    """What other features make of a thing: of a “segment”, and so on."""
    return [use for one in features() if kind in one.uses for use in one.uses[kind](db(), ident)]


def counts_of(kind: str) -> Counter[int]:
    """How many things of other features each thing of a kind has, by its number."""
    found: Counter[int] = Counter()
    for one in features():
        if kind in one.counts:
            found.update(one.counts[kind](db()))
    return found


def dates_of(kind: str) -> dict[int, list[Dated]]:
    """What of all features is on which moment for each thing of a kind, in order, by its number."""
    found: dict[int, list[Dated]] = {}
    for one in features():
        if kind in one.dates:
            for ident, dated in one.dates[kind](db()).items():
                found.setdefault(ident, []).extend(dated)
    return {ident: sorted(dated, key=lambda one: one.at) for ident, dated in found.items()}


def running_of(kind: str) -> dict[int, list[tuple[str, str]]]:
    """What of all features goes on by itself now for each thing of a kind, by its number: name and
    path."""
    found: dict[int, list[tuple[str, str]]] = {}
    for one in features():
        if kind in one.running:
            for ident, things in one.running[kind](db()).items():
                found.setdefault(ident, []).extend(things)
    return found


def parts_of(place: str, ident: int) -> list[Markup]:
    """What the features draw at a place of a page, of the thing of a number."""
    return [Markup(one.parts[place](ident)) for one in features() if place in one.parts]


#: Parts of paths by which strangers are let in.
_SECRET_PARTS = ("token", "code", "sealed", "mark", "handle")


def path_for_logs() -> str:
    """The path of the request without what lets somebody in; of one that leads nowhere its first
    part."""
    asked = flask.request
    if asked.url_rule is None:
        return "/" + asked.path.lstrip("/").partition("/")[0]
    path = asked.path
    parts = asked.view_args or {}
    for name in _SECRET_PARTS:
        if name in parts:
            path = path.replace(str(parts[name]), "…")
    return path


def zone() -> zoneinfo.ZoneInfo:
    return zoneinfo.ZoneInfo(settings().timezone)


def today() -> dt.date:
    return now().astimezone(zone()).date()


def actor() -> Actor:
    user = flask.g.get("user")
    if user is None:
        return SYSTEM
    return Actor(user.id, user.name, user.role, flask.g.get("request_id", ""))


def features() -> list[Feature]:
    """What the features add, in their order."""
    return [one.feature for one in flask.current_app.config["FEATURES"]]


def needs(role: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """A view for people whose role reaches `role`. Without it, any signed-in person may see a
    view."""

    def decorate(view: Callable[..., Any]) -> Callable[..., Any]:
        @functools.wraps(view)
        def guarded(*arguments: Any, **named: Any) -> Any:
            require(actor(), role)
            return view(*arguments, **named)

        guarded.needs = role  # type: ignore[attr-defined]
        return guarded

    return decorate


def may_see(endpoint: str) -> bool:
    """Whether the role of whoever asks reaches what a page needs."""
    role = getattr(flask.current_app.view_functions[endpoint], "needs", None)
    return role is None or may(actor(), role)


def public(view: Callable[..., Any]) -> Callable[..., Any]:
    """A view that needs no sign-in."""
    view.is_public = True  # type: ignore[attr-defined]
    return view


def notice(message: str, kind: str = "message") -> None:
    """Says something on the next page that is shown, in the language of whoever reads this one."""
    flask.flash(in_language(worded(message)), kind)


def done(
    endpoint: str, message: str | None = None, **values: Any
) -> flask.typing.ResponseReturnValue:
    """After a change: on to another page (303), with a line that says what happened."""
    if message:
        notice(message)
    return flask.redirect(flask.url_for(endpoint, **values), 303)


def not_done(problem: object, endpoint: str, **values: Any) -> flask.typing.ResponseReturnValue:
    """After a change that was refused: nothing of it stays, and the page it belongs to says why."""
    db().rollback()
    notice(str(problem), "bad")
    return flask.redirect(flask.url_for(endpoint, **values), 303)


def uploaded(file: FileStorage | None) -> bytes:
    """What is in a file that somebody handed in, looked through by the scanner where there is one;
    nothing where there is no file. Raises Invalid where something malicious is found,
    GatewayUnavailable where the scanner does not answer."""
    content = file.read() if file else b""
    scanner.check(settings().scanner, content, (file.filename or "") if file else "")
    return content


def csv_file(content: Iterable[str], name: str) -> flask.Response:
    """A CSV to keep under this name, with the mark by which spreadsheets know UTF-8."""
    plain = (
        "".join(
            c for c in name.encode("ascii", "ignore").decode() if c.isalnum() or c in " -_."
        ).strip()
        or "file"
    )
    return flask.Response(
        itertools.chain(["\ufeff"], content),
        mimetype="text/csv",
        headers={"Content-Disposition": f'attachment; filename="{plain}.csv"'},
    )


def rows_as_csv(rows: Iterable[Sequence[Any]], name: str) -> flask.Response:
    """Rows as a CSV to keep: no text in it is run as a formula by a spreadsheet."""
    out = io.StringIO()
    csv.writer(out).writerows(
        [harmless(cell) if isinstance(cell, str) else cell for cell in row] for row in rows
    )
    return csv_file([out.getvalue()], name)


def body() -> dict[str, Any]:
    """The posted JSON object. Raises Invalid; for half a character (a lone surrogate), which no
    database holds, with its place."""
    data = flask.request.get_json(silent=True)
    if not isinstance(data, dict):
        raise Invalid("Post a JSON object.")
    try:
        orjson.loads(flask.request.get_data())
    except ValueError:
        # Ours is the stricter reader; what only the other takes is found by looking.
        if (place := _half(data, "")) is not None:
            raise Invalid("This holds half a character, which cannot be stored.", place) from None
    return data


def _half(data: Any, place: str) -> str | None:
    """Where a text of some JSON holds half a character; None where none does."""
    stack = [(data, place)]
    while stack:
        one, here = stack.pop()
        if isinstance(one, str):
            try:
                one.encode()
            except UnicodeEncodeError:
                return here
        elif isinstance(one, dict):
            stack += [
                pair
                for key, value in reversed(one.items())
                for pair in ((value, f"{here}.{key}".lstrip(".")), (key, here))
            ]
        elif isinstance(one, list):
            stack += [
                (value, f"{here}[{number}]") for number, value in reversed(list(enumerate(one)))
            ]
    return None


def integer(text: str | None, place: str) -> int:
    """A number from a form. Raises Invalid naming the place for anything else."""
    if not is_whole((text or "").strip().removeprefix("-")):
        raise Invalid(Wording("“%(text)s” is not a whole number.", text=text), place)
    return int(text or "")
