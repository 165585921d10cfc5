"""The page of best hours: when people react, and how much is known."""

import flask

from meadowrun.core.audience.definition import DefinitionError
from meadowrun.core.timing.hours import DAY_NAMES
from meadowrun.core.values import is_whole
from meadowrun.outgoing import best_hours
from meadowrun.people.asked import moment
from meadowrun.segments.models import Segment
from meadowrun.segments.queries import segments
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, db

pages = flask.Blueprint("best_hours", __name__, url_prefix="/best-hours")


@pages.get("")
@comes_later("Reading when people open and click")
def show() -> Answer:
    """When everybody reacts, or the people of a segment."""
    number = flask.request.args.get("segment", "")
    segment = db().get(Segment, int(number)) if is_whole(number) else None
    week, problem = None, None
    try:
        week = best_hours.Week(moment(), segment)
    except DefinitionError as wrong:
        problem = wrong
    return flask.render_template(
        "outgoing/best_hours.html",
        habits=best_hours.learnt(db()),
        reactions=week.reactions() if week else [],
        known=week.known() if week else {},
        best=week.best() if week else [],
        days=DAY_NAMES,
        problem=problem,
        segment=segment,
        segments=segments(db()),
    )
