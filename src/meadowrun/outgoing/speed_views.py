"""The page of how fast emails leave: by the domain they go to, and from a domain that is new."""

import dataclasses
import datetime as dt
from collections.abc import Mapping

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.guardrails.speeds import WarmUp
from meadowrun.core.language import Wording
from meadowrun.messages.mail_keys import domains
from meadowrun.outgoing import speeds
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    today,
)

pages = flask.Blueprint("speeds", __name__, url_prefix="/mail-speed")

#: So many days of a plan are shown.
_DAYS = 14
#: What the forms hold before something is typed.
_NOTHING = {
    "domain": "",
    "per_hour": "",
    "every_other": "",
    "from_domain": "",
    "first_day": "200",
    "growth": "30",
    "until": "20000",
}


@dataclasses.dataclass(frozen=True, slots=True)
class _Day:
    """One day of a plan; `most` is None once there is no limit any more."""

    day: dt.date
    most: int | None
    left_so_far: int
    planned: int


@dataclasses.dataclass(frozen=True, slots=True)
class _Domain:
    """A domain that emails are from, and its plan, if any."""

    name: str
    words: str
    ends: dt.date | None
    days: tuple[_Day, ...]


@pages.get("")
def table() -> Answer:
    """Speeds by domain, servers that delay now, and plans of new domains."""
    return _page({}, None)


def _page(given: Mapping[str, str], problem: MeadowrunError | None) -> str:
    """The page, with what was typed and why it was refused."""
    found = {one.domain: one for one in speeds.all_speeds(db())}
    every_other = found.pop(speeds.EVERY_OTHER, None)
    kept = str(every_other.per_hour or "") if every_other else ""
    return flask.render_template(
        "outgoing/speed.html",
        speeds=[one for one in found.values() if one.per_hour is not None],
        delaying=[one for one in found.values() if one.not_before and one.not_before > now()],
        domains=[_domain(name) for name in domains(db())],
        growths=speeds.GROWTHS,
        given=_NOTHING | {"every_other": kept} | dict(given),
        problem=problem,
        today=today().isoformat(),
    )


def _domain(name: str) -> _Domain:
    """What is known of a domain that emails are from."""
    row = speeds.warm_up(db(), name)
    if row is None:
        return _Domain(name, "", None, ())
    plan, known = row.plan, speeds.days(db(), name)
    first = max(plan.begins, today())
    shown = []
    for place in range(_DAYS):
        day = first + dt.timedelta(days=place)
        kept = known.get(day)
        most = plan.most_on(day)
        shown.append(_Day(day, most, kept.left_so_far if kept else 0, kept.planned if kept else 0))
        if most is None:
            break
    return _Domain(name, speeds.plan_words(plan), plan.ends, tuple(shown))


@pages.post("")
@needs("admin")
def save() -> Answer:
    """Sets how many emails an hour go to a domain, or to every other."""
    form = flask.request.form
    try:
        if "every_other" in form:
            text = form["every_other"].strip()
            per_hour = integer(text, "every_other") if text else None
            speeds.save_speed(db(), actor(), now(), speeds.EVERY_OTHER, per_hour)
        else:
            domain = speeds.checked(form.get("domain", ""))
            per_hour = integer(form.get("per_hour"), "per_hour")
            speeds.save_speed(db(), actor(), now(), domain, per_hour)
    except MeadowrunError as problem:
        db().rollback()
        return _page(form.to_dict(), problem), problem.status
    return done("speeds.table", "Saved. People waiting for it are checked again.")


@pages.post("/<domain>/<what>")
@needs("admin")
def change(domain: str, what: str) -> Answer:
    """Takes the speed of a domain away, or writes to it again at once."""
    try:
        if what == "remove":
            speeds.save_speed(db(), actor(), now(), domain, None)
        elif what == "try":
            speeds.try_now(db(), actor(), now(), domain)
        elif what == "end":
            speeds.end_warm_up(db(), actor(), now(), domain)
        else:
            flask.abort(404)
    except MeadowrunError as problem:
        return not_done(problem, "speeds.table")
    return done("speeds.table", "Saved. People waiting for it are checked again.")


def _day(text: str) -> dt.date:
    """A day as it was typed; today for an empty field. Raises Invalid."""
    try:
        return dt.date.fromisoformat(text) if text else today()
    except ValueError:
        raise Invalid("Choose the first day.", "begins") from None


@pages.post("/warm-up")
@needs("admin")
def warm_up() -> Answer:
    """Has a new domain send a little more each day."""
    form = flask.request.form
    try:
        plan = WarmUp(
            _day(form.get("begins", "")),
            integer(form.get("first_day"), "first_day"),
            integer(form.get("growth"), "growth"),
            integer(form.get("until"), "until"),
        )
        speeds.save_warm_up(db(), actor(), now(), form.get("from_domain", ""), plan)
    except MeadowrunError as problem:
        db().rollback()
        return _page(form.to_dict(), problem), problem.status
    said = Wording("%(domain)s sends a few more each day.", domain=form.get("from_domain", ""))
    return done("speeds.table", said)
