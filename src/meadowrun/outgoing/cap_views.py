"""The page of message limits."""

from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.channels import KINDS
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.language import Wording
from meadowrun.gateways.channels import CHANNELS
from meadowrun.outgoing import caps
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, not_done, now

pages = flask.Blueprint("caps", __name__, url_prefix="/message-limits")

#: The units that a limit can be said in.
UNITS = {
    "minute": Wording("minutes"),
    "day": Wording("days"),
    "week": Wording("weeks"),
    "month": Wording("months"),
}


#: What the form for another limit begins with.
_USUAL = {"most": "3", "length": "1", "unit": "week", "channel": ""}


@pages.get("")
def table() -> Answer:
    """All limits, and a form for another."""
    return _page(_USUAL, None)


def _page(given: Mapping[str, Any], problem: MeadowrunError | None) -> str:
    """The page, with what was typed and why it was refused."""
    return flask.render_template(
        "outgoing/caps.html",
        limits=caps.limits(db()),
        channels={key: KINDS[key].several for key, one in CHANNELS.items() if not one.waits_there},
        units=UNITS,
        given=given,
        problem=problem,
    )


@pages.post("")
@needs("admin")
def add() -> Answer:
    """Adds a limit."""
    form = flask.request.form
    try:
        limit = caps.save(
            db(),
            actor(),
            now(),
            Cap(
                integer(form.get("most"), "most"),
                integer(form.get("length"), "length"),
                form.get("unit", ""),
                form.get("channel", ""),
            ),
        )
    except MeadowrunError as problem:
        db().rollback()
        return _page(_USUAL | form.to_dict(), problem), problem.status
    return done("caps.table", Wording("From now on: %(words)s.", words=limit.cap.words()))


@pages.post("/<int:ident>")
@needs("admin")
def change(ident: int) -> Answer:
    """Another number for a limit."""
    try:
        most = integer(flask.request.form.get("most"), "most")
        caps.change(db(), actor(), now(), ident, most)
    except MeadowrunError as problem:
        return not_done(problem, "caps.table")
    return done("caps.table", "Saved. Whoever waits for room is checked again.")


@pages.post("/<int:ident>/delete")
@needs("admin")
def delete(ident: int) -> Answer:
    """Takes a limit away."""
    try:
        caps.delete(db(), actor(), now(), ident)
    except MeadowrunError as problem:
        return not_done(problem, "caps.table")
    return done("caps.table", "The limit was deleted. Whoever waited for room is checked again.")
