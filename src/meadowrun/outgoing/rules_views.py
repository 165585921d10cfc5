"""The page of what holds for everything that is sent."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.guardrails.limits import HELD_OUT_PERIODS, held_out_since
from meadowrun.core.naming import PARTS, PatternError
from meadowrun.outgoing import allowance, held_out, rules
from meadowrun.people.asked import moment
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
    zone,
)

pages = flask.Blueprint("sending", __name__, url_prefix="/sending")


@pages.get("")
def show() -> Answer:
    """The switch, from how many people on a second person approves, and who gets no marketing."""
    found = rules.rules(db())
    day = today()
    return flask.render_template(
        "outgoing/rules.html",
        rules=found,
        periods={key: name for key, (_, name) in HELD_OUT_PERIODS.items()},
        since=held_out_since(found.held_out_period, day),
        parts=PARTS,
        allowance=allowance.allowance(db(), now(), zone()),
        allowance_periods=allowance.PERIODS,
        held_out=held_out.brought(moment()),
    )


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


@pages.post("/second-person")
@needs("admin")
def second_person() -> Answer:
    """From how many people on a second person approves."""
    text = flask.request.form.get("above", "").strip()
    try:
        above = integer(text, "above") if text else None
        rules.ask_second_person(db(), actor(), now(), above)
    except MeadowrunError as problem:
        return not_done(problem, "sending.show")
    return done("sending.show", "Saved.")


@pages.post("/allowance")
@needs("admin")
def allow() -> Answer:
    """How many messages may leave within a day or a month."""
    form = flask.request.form
    text = form.get("most", "").strip()
    try:
        most = integer(text, "most") if text else None
        allowance.save(db(), actor(), now(), most, form.get("per", ""))
    except MeadowrunError as problem:
        return not_done(problem, "sending.show")
    return done("sending.show", "Saved.")


@pages.post("/soft-bounces")
@needs("admin")
def soft_bounces() -> Answer:
    """After how many soft bounces an address is not written to any more."""
    form = flask.request.form
    try:
        most, days = integer(form.get("most"), "most"), integer(form.get("days"), "days")
        rules.set_soft_bounces(db(), actor(), now(), most, days)
    except MeadowrunError as problem:
        return not_done(problem, "sending.show")
    return done("sending.show", "Saved.")


@pages.post("/replies")
@needs("admin")
def replies() -> Answer:
    """Whether what people write back comes to us first."""
    rules.take_mail(db(), actor(), now(), flask.request.form.get("takes") == "yes")
    return done("sending.show", "Saved.")


@pages.post("/names")
@needs("admin")
def names() -> Answer:
    """How sends are named."""
    try:
        rules.name_sends(db(), actor(), now(), flask.request.form.get("pattern", ""))
    except PatternError as problem:
        return not_done(problem.args[0], "sending.show")
    return done("sending.show", "Saved.")


@pages.post("/held-out")
@needs("admin")
def hold_out() -> Answer:
    """Which share of everybody gets no marketing at all."""
    form = flask.request.form
    text = form.get("percent", "").strip().replace(",", ".").removesuffix("%")
    try:
        held_out.save(db(), actor(), now(), _percent(text), form.get("period", ""))
    except MeadowrunError as problem:
        return not_done(problem, "sending.show")
    return done("sending.show", "Saved.")


def _percent(text: str) -> float | None:
    """A share as it was typed; None for an empty field. Raises Invalid."""
    try:
        return float(text) if text else None
    except ValueError:
        raise Invalid("Give the share as a number, or leave it empty.", "percent") from None
