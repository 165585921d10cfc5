"""The page that says whether everything is set up, and how it is."""

from collections.abc import Sequence

import flask

from meadowrun.readiness.looking import Stands, look, standing
from meadowrun.shell.request import Answer, db, done, needs, now, settings

pages = flask.Blueprint("readiness", __name__, url_prefix="/readiness")


@pages.get("")
def show() -> Answer:
    """Everything that has to be set up, as it was found the last time."""
    found = standing(db(), settings())
    return flask.render_template(
        "readiness/show.html",
        areas=_by_area(found),
        missing=sum(one.missing for one in found),
        untried=sum(one.found is None for one in found),
        tried_at=max((one.found.at for one in found if one.found), default=None),
    )


def _by_area(found: Sequence[Stands]) -> list[tuple[str, list[Stands]]]:
    areas: dict[str, list[Stands]] = {}
    for one in found:
        areas.setdefault(str(one.probe.area), []).append(one)
    return list(areas.items())


@pages.post("/try")
@needs("author")
def try_again() -> Answer:
    """Tries everything now."""
    look(db(), settings(), now())
    return done("readiness.show")
