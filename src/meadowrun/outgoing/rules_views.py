"""The page of what holds for everything that is sent."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.outgoing import rules
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, not_done, now

pages = flask.Blueprint("sending", __name__, url_prefix="/sending")


@pages.get("")
def show() -> Answer:
    """The switch, and from how many people on a second person approves."""
    return flask.render_template("outgoing/rules.html", rules=rules.rules(db()))


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
