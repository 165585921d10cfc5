"""Steps kept as a pattern, put into a journey, or deleted."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.journeys import patterns, queries
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now

pages = flask.Blueprint("patterns", __name__, url_prefix="/journeys")


@pages.post("/<int:ident>/patterns")
@needs("author")
def keep(ident: int) -> Answer:
    """Keeps a step of a journey, or it and what follows, under a name."""
    journey, form = queries.journey(db(), ident), flask.request.form
    itinerary, step = queries.draft(db(), journey), form.get("step", "")
    try:
        made = patterns.keep(
            db(), actor(), now(), itinerary, step, form.get("name", ""), "following" in form
        )
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident, edit=1, _anchor=f"line-{step}")
    said = Wording(
        "Kept as the pattern “%(name)s”. Type its name where a step is added.", name=made.name
    )
    return done("journeys.show", said, ident=ident, edit=1, _anchor=f"line-{step}")


@pages.post("/patterns/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    """Deletes a pattern."""
    name = patterns.forget(db(), actor(), now(), ident)
    return done("journeys.table", Wording("The pattern “%(name)s” was deleted.", name=name))
