"""The page of what holds for everything that is sent."""

from collections.abc import Callable, Mapping
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.guardrails.limits import HELD_OUT_PERIODS, held_out_since
from meadowrun.core.language import Problem
from meadowrun.core.naming import PARTS
from meadowrun.outgoing import allowance, held_out, rules
from meadowrun.people.asked import moment
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, now, today, zone

pages = flask.Blueprint("sending", __name__, url_prefix="/sending")
#: What was typed into one of the forms.
Form = Mapping[str, str]


@pages.get("")
def show() -> Answer:
    """The switch, and all numbers."""
    return _page({}, None)


def _page(given: Form, problem: Exception | None) -> str:
    """The page, with what was typed and why it was refused."""
    found = rules.rules(db())
    return flask.render_template(
        "outgoing/rules.html",
        rules=found,
        given=_kept(found) | dict(given),
        problem=problem,
        periods={key: name for key, (_, name) in HELD_OUT_PERIODS.items()},
        since=held_out_since(found.held_out_period, today()),
        parts=PARTS,
        allowance=allowance.allowance(db(), now(), zone()),
        allowance_periods=allowance.PERIODS,
        held_out=held_out.brought(moment()),
    )


def _kept(found: Any) -> dict[str, str]:
    """What the forms hold before something is typed."""
    percent = found.held_out_percent
    return {
        "above": _text(found.second_person_above),
        "most": _text(found.allowance),
        "per": found.allowance_per,
        "soft_most": _text(found.soft_most),
        "soft_days": _text(found.soft_days),
        "takes": "yes" if found.takes_mail else "no",
        "pattern": found.name_pattern,
        "percent": "" if percent is None else f"{percent:g}",
        "period": found.held_out_period,
    }


def _text(number: int | None) -> str:
    return "" if number is None else str(number)


@pages.post("/pause")
@needs("approver")
def pause() -> Answer:
    """Pauses all marketing."""
    rules.pause(db(), actor(), now(), flask.request.form.get("service") == "yes")
    return done("sending.show")


@pages.post("/resume")
@needs("approver")
def resume() -> Answer:
    """Lets everything go on."""
    rules.resume(db(), actor(), now())
    return done("sending.show", "Sending goes on.")


def _second_person(form: Form) -> None:
    rules.ask_second_person(db(), actor(), now(), _number(form, "above"))


def _allowance(form: Form) -> None:
    allowance.save(db(), actor(), now(), _number(form, "most"), form.get("per", ""))


def _soft_bounces(form: Form) -> None:
    most = integer(form.get("soft_most"), "soft_most")
    days = integer(form.get("soft_days"), "soft_days")
    rules.set_soft_bounces(db(), actor(), now(), most, days)


def _replies(form: Form) -> None:
    rules.take_mail(db(), actor(), now(), form.get("takes") == "yes")


def _names(form: Form) -> None:
    rules.name_sends(db(), actor(), now(), form.get("pattern", ""))


def _held_out(form: Form) -> None:
    text = form.get("percent", "").strip().replace(",", ".").removesuffix("%")
    try:
        percent = float(text) if text else None
    except ValueError:
        raise Invalid("Give the share as a number, or nothing.", "percent") from None
    held_out.save(db(), actor(), now(), percent, form.get("period", ""))


def _number(form: Form, name: str) -> int | None:
    """A number as it was typed; None for an empty field. Raises Invalid."""
    text = form.get(name, "").strip()
    return integer(text, name) if text else None


#: Each form of the page → what keeps what was typed.
_SAVES: dict[str, Callable[[Form], None]] = {
    "second-person": _second_person,
    "allowance": _allowance,
    "soft-bounces": _soft_bounces,
    "replies": _replies,
    "names": _names,
    "held-out": _held_out,
}


@pages.post("/<what>")
@needs("admin")
def save(what: str) -> Answer:
    """Keeps what was typed into one of the forms."""
    if what not in _SAVES:
        flask.abort(404)
    form = flask.request.form
    try:
        _SAVES[what](form)
    except (MeadowrunError, Problem) as problem:
        db().rollback()
        return _page(form.to_dict(), problem), 422
    return done("sending.show", "Saved.")
