"""Pages of journeys: all of them, and one with its map and itinerary."""

from collections.abc import Callable

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import MeadowrunError
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys.beginnings import BEGINNINGS
from meadowrun.core.journeys.bpmn import to_bpmn
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.words import (
    as_text,
)
from meadowrun.core.language import Wording
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.map import alone, draw
from meadowrun.journeys.models import STATES
from meadowrun.journeys.patterns import all_patterns
from meadowrun.journeys.show_page import drawn
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    settings,
)

pages = flask.Blueprint("journeys", __name__)


@pages.get("/journeys")
def table() -> Answer:
    """All journeys, those that run first."""
    found = queries.all_journeys(db())
    stands = figures.stands(db(), [one.id for one in found])
    return flask.render_template(
        "journeys/table.html",
        rows=[(one, stands[one.id]) for one in found],
        campaigns=queries.campaign_names(db()),
        states=STATES,
        patterns=all_patterns(db()),
    )


@pages.post("/campaigns/<int:ident>/journeys")
@needs("author")
def add(ident: int) -> Answer:
    """Begins a journey of a campaign."""
    campaign, form = existing(db(), Campaign, ident, "campaign"), flask.request.form
    begins = BEGINNINGS.get(form.get("begin", ""))
    itinerary = begins.itinerary() if begins else None
    try:
        made = actions.create(db(), actor(), now(), campaign, form.get("name", ""), itinerary)
    except MeadowrunError as problem:
        return not_done(problem, "campaigns.show", ident=ident)
    return done("journeys.show", ident=made.id, _anchor="add")


@pages.get("/journeys/<int:ident>")
def show(ident: int) -> Answer:
    """One journey: as people walk it, or as it is being written."""
    return drawn(queries.journey(db(), ident), "", None)


@pages.get("/journeys/<int:ident>/live")
def live(ident: int) -> Answer:
    """What of the page changes while people walk it."""
    return drawn(queries.journey(db(), ident), "", None, page_of="journeys/live.html")


@pages.get("/journeys/<int:ident>/lines/<line>")
@needs("author")
def sheet(ident: int, line: str) -> Answer:
    """What a line of an itinerary is changed by."""
    journey = queries.journey(db(), ident)
    return drawn(journey, "", None, page_of="journeys/sheet.html", sheet_of=line)


@pages.get("/journeys/<int:ident>.txt")
def text(ident: int) -> Answer:
    """The itinerary as instructions in plain text."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    said = f"{journey.name}\n\n{as_text(itinerary, queries.names(db()))}\n"
    return flask.Response(said, mimetype="text/plain")


@pages.get("/journeys/<int:ident>.json")
def as_json(ident: int) -> Answer:
    """The itinerary as JSON."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    return flask.jsonify(name=journey.name, itinerary=to_json(itinerary))


@pages.get("/journeys/<int:ident>.bpmn")
def as_bpmn(ident: int) -> Answer:
    """The itinerary in process notation."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    said = to_bpmn(journey.name, itinerary, queries.names(db()))
    return flask.Response(
        said,
        mimetype="application/xml",
        headers={"Content-Disposition": f'attachment; filename="journey-{ident}.bpmn"'},
    )


@pages.get("/journeys/<int:ident>.svg")
def picture(ident: int) -> Answer:
    """The map as a picture."""
    journey = queries.journey(db(), ident)
    walked = queries.walked(db(), journey)
    itinerary = walked or queries.draft(db(), journey)
    found = figures.numbers(db(), ident) if walked else None
    river = str(draw(itinerary, queries.names(db()), found).map)
    return flask.Response(
        alone(river),
        mimetype="image/svg+xml",
        # It brings its font and its one rule along, and nothing else.
        headers={
            "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; "
            "font-src data:"
        },
    )


#: What can be done with a journey as a whole: the deed, and what is said then.
_TURNS: dict[str, tuple[Callable[..., None], str]] = {
    "pause": (actions.pause, Wording("Paused: nobody moves on, and nothing is sent.")),
    "resume": (actions.resume, Wording("It goes on.")),
    "wind-down": (actions.wind_down, Wording("Nobody new comes in; who is inside goes on.")),
    "end": (actions.end, Wording("It has ended.")),
}


@pages.post("/journeys/<int:ident>/turn/<what>")
@needs("approver")
def turn(ident: int, what: str) -> Answer:
    """Pauses, resumes, winds down or ends it."""
    if what not in _TURNS:
        flask.abort(404)
    act, said = _TURNS[what]
    try:
        act(db(), actor(), now(), queries.journey(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/take-over")
@needs("approver")
def take_over(ident: int) -> Answer:
    """Makes whoever asks the one who looks after it."""
    try:
        actions.take_over(db(), actor(), now(), queries.journey(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", Wording("You look after it from now on."), ident=ident)


@pages.post("/journeys/<int:ident>/start")
@needs("approver")
def start(ident: int) -> Answer:
    """Starts it, or has people go on by the newest draft."""
    journey = queries.journey(db(), ident)
    version = integer(flask.request.form.get("version"), "version")
    first = journey.started_at is None
    to = {
        name.removeprefix("to-"): place
        for name, place in flask.request.form.items()
        if name.startswith("to-")
    }
    try:
        actions.start(db(), actor(), now(), journey, version, settings().inner, to)
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident, edit=1)
    said = (
        Wording("It runs.")
        if first
        else Wording(
            "Edition %(edition)s is live: people continue with it.", edition=journey.edition
        )
    )
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/copy")
@needs("author")
def copy(ident: int) -> Answer:
    """Another journey with the same itinerary."""
    made = actions.copy(db(), actor(), now(), queries.journey(db(), ident))
    return done("journeys.show", Wording("A copy, which nothing has started."), ident=made.id)


@pages.post("/journeys/<int:ident>/rename")
@needs("author")
def rename(ident: int) -> Answer:
    """Gives it another name."""
    journey = queries.journey(db(), ident)
    try:
        actions.rename(db(), actor(), now(), journey, flask.request.form.get("name", ""))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", ident=ident)


@pages.post("/journeys/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    """Deletes one that was never started."""
    journey = queries.journey(db(), ident)
    campaign, name = journey.campaign_id, journey.name
    try:
        actions.delete(db(), actor(), now(), journey)
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    said = Wording("“%(name)s” was deleted.", name=name)
    return done("campaigns.show", said, ident=campaign)
