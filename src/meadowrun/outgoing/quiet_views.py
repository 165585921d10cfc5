"""The page of quiet hours and holidays."""

from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.channels import KINDS
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import time_words
from meadowrun.core.wording import held
from meadowrun.outgoing import calendars, quiet
from meadowrun.outgoing.calendars import MOST_BYTES
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now, today

pages = flask.Blueprint("quiet", __name__, url_prefix="/quiet-hours")

#: What the forms hold before something is typed.
_NOTHING = dict.fromkeys(("channel", "begins", "ends", "does", "country", "name"), "")


@pages.get("")
def table() -> Answer:
    """The quiet hours of each channel, and all holidays."""
    return _page(_NOTHING, None)


def _page(given: Mapping[str, Any], problem: MeadowrunError | None) -> str:
    """The page, with what was typed and why it was refused."""
    return flask.render_template(
        "outgoing/quiet.html",
        channels=[(key, KINDS[key].several) for key in quiet.channels()],
        quiet=quiet.all_of(db()),
        words=quiet.words,
        time=time_words,
        does=quiet.DOES,
        held=held,
        holidays=[(one, _ahead(one.days)) for one in calendars.all_of(db())],
        countries=calendars.countries(),
        given=_NOTHING | dict(given),
        nothing=_NOTHING,
        problem=problem,
    )


def _ahead(days: Mapping[str, str]) -> list[tuple[str, str]]:
    """The next few of some days, from today on."""
    first = today().isoformat()
    return [(day, name) for day, name in days.items() if day >= first][:4]


@pages.post("/channel/<channel>")
@needs("admin")
def save(channel: str) -> Answer:
    """Sets the quiet hours of a channel, or takes them away."""
    form = flask.request.form
    try:
        if form.get("off"):
            quiet.delete(db(), actor(), now(), channel)
        else:
            begins, ends = form.get("begins", ""), form.get("ends", "")
            quiet.save(db(), actor(), now(), channel, begins, ends, form.get("does", ""))
    except MeadowrunError as problem:
        db().rollback()
        return _page({"channel": channel, **form.to_dict()}, problem), problem.status
    return done("quiet.table", "Saved. People waiting for their hours are checked again.")


@pages.post("/holidays")
@needs("admin")
def add() -> Answer:
    """Adds holidays of a country, or days from a file."""
    form, file = flask.request.form, flask.request.files.get("file")
    data = file.read(MOST_BYTES + 1) if file and file.filename else None
    try:
        made = calendars.save(
            db(), actor(), now(), form.get("name", ""), form.get("country", ""), data
        )
    except MeadowrunError as problem:
        db().rollback()
        return _page(form.to_dict(), problem), problem.status
    return done("quiet.table", Wording("Sends can keep “%(name)s” now.", name=made.name))


@pages.post("/holidays/<int:ident>/delete")
@needs("admin")
def delete(ident: int) -> Answer:
    """Takes holidays away."""
    try:
        name = calendars.delete(db(), actor(), now(), ident)
    except MeadowrunError as problem:
        return not_done(problem, "quiet.table")
    return done("quiet.table", Wording("“%(name)s” was deleted.", name=name))
