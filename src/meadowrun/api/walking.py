"""The API's endpoints about journeys: all of them, their itineraries, who is where."""

import flask

from meadowrun.api.door import Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid, NotFound
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import Lane
from meadowrun.core.language import Wording
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.figures import NOBODY, Numbers
from meadowrun.journeys.models import Journey
from meadowrun.journeys.testers import MOST_WAITS
from meadowrun.shell.request import Answer, body, db, now, settings

#: So many people can be brought in at once.
MOST_PEOPLE = 1000


def _journey(found: Journey) -> Json:
    stand = figures.numbers(db(), found.id).stand
    return {
        "id": found.id,
        "name": found.name,
        "campaign": found.campaign_id,
        "state": found.state,
        "edition": found.edition,
        "version": found.version,
        "entered": stand.entered,
        "inside": stand.inside,
        "finished": stand.finished,
        "left": stand.left,
        "reached_goal": stand.reached,
    }


def _lane(lane: Lane, numbers: Numbers) -> Json:
    stand = numbers.lanes.get(lane.id, NOBODY)
    return {
        "id": lane.id,
        "name": lane.name,
        "entered": stand.entered,
        "inside": stand.inside,
        "finished": stand.finished,
        "left": stand.left,
        "reached_goal": stand.reached,
        "goal_amount": float(stand.amount),
    }


@endpoint("get", "/v1/journeys", "Every journey, with how many people are where")
def all_journeys(actor: Actor) -> Answer:
    return flask.jsonify(items=[_journey(one) for one in queries.all_journeys(db())])


@endpoint("get", "/v1/journeys/<int:ident>", "One journey with its itinerary and all numbers")
def one_journey(actor: Actor, ident: int) -> Answer:
    found = queries.journey(db(), ident)
    itinerary = queries.walked(db(), found) or queries.draft(db(), found)
    numbers = figures.numbers(db(), ident)
    return flask.jsonify(
        **_journey(found),
        itinerary=to_json(itinerary),
        steps={
            step.id: {
                "came": numbers.passed(step.id),
                "here": numbers.here[step.id].people if step.id in numbers.here else 0,
                "went": numbers.went.get(step.id, {}),
            }
            for step, _, _ in itinerary.walk()
        },
        lanes=[_lane(one, numbers) for one in itinerary.lanes],
        refused=numbers.refused,
    )


@endpoint(
    "put",
    "/v1/journeys/<int:ident>/itinerary",
    "Write the draft of a journey; people stay on their edition until it goes live",
    takes=thing(
        ["version", "itinerary"],
        version={"type": "integer", "description": "the one that was read"},
        itinerary={"$ref": "/api/itinerary.schema.json"},
    ),
)
def write_itinerary(actor: Actor, ident: int) -> Answer:
    found, data = queries.journey(db(), ident), body()
    try:
        wanted = from_json(data["itinerary"])
    except ItineraryError as problem:
        raise Invalid(problem.args[0], f"itinerary.{problem.place}") from None
    said = Wording("wrote it by the API")
    actions.write(db(), actor, now(), found, data["version"], said, lambda _: wanted)
    return flask.jsonify(_journey(found))


@endpoint(
    "post",
    "/v1/journeys/<int:ident>/start",
    "Start a journey, or put its draft live as the next edition",
    takes=thing(["version"], version={"type": "integer", "description": "the one that was read"}),
)
def start(actor: Actor, ident: int) -> Answer:
    found = queries.journey(db(), ident)
    actions.start(db(), actor, now(), found, body()["version"], settings().inner)
    return flask.jsonify(_journey(found))


#: What can be done with a journey as a whole.
_TURNS = {
    "pause": actions.pause,
    "resume": actions.resume,
    "wind_down": actions.wind_down,
    "end": actions.end,
}


@endpoint(
    "post",
    "/v1/journeys/<int:ident>/state",
    "Pause a journey, resume it, wind it down or end it for good",
    takes=thing(["do"], do={"enum": list(_TURNS)}),
)
def turn(actor: Actor, ident: int) -> Answer:
    found = queries.journey(db(), ident)
    _TURNS[body()["do"]](db(), actor, now(), found)
    return flask.jsonify(_journey(found))


@endpoint(
    "post",
    "/v1/journeys/<int:ident>/people",
    "Bring contacts in, as far as the journey allows",
    takes=thing(
        ["contacts"],
        contacts={"type": "array", "items": {"type": "integer"}, "maxItems": MOST_PEOPLE},
        lane={"type": "string", "description": "the id of a lane; left out: the first one"},
        tester_wait={
            "enum": list(MOST_WAITS),
            "description": "makes them testers, who count nowhere: so many seconds each wait of "
            "theirs takes at most; 0: as long as for everybody",
        },
    ),
)
def bring_in(actor: Actor, ident: int) -> Answer:
    found, data = queries.journey(db(), ident), body()
    entered = actions.bring_in(
        db(),
        actor,
        now(),
        found,
        data["contacts"],
        data.get("lane", ""),
        data.get("tester_wait"),
    )
    return flask.jsonify(entered=entered)


@endpoint(
    "get", "/v1/journeys/<int:ident>/people/<int:contact>", "Where a contact is, and their way"
)
def where(actor: Actor, ident: int, contact: int) -> Answer:
    queries.journey(db(), ident)
    entry = queries.entry(db(), ident, contact)
    if entry is None:
        raise NotFound("This contact was never in this journey.")
    return flask.jsonify(
        state=entry.state,
        because=entry.because,
        step=entry.step,
        began_at=entry.began_at.isoformat(),
        due=entry.due.isoformat() if entry.due else None,
        goal_at=entry.goal_at.isoformat() if entry.goal_at else None,
        moves=[
            {
                "at": move.at.isoformat(),
                "from": move.from_step,
                "to": move.to_step,
                "because": move.because,
            }
            for move in queries.moves(db(), entry.id)
        ],
    )


@endpoint("delete", "/v1/journeys/<int:ident>/people/<int:contact>", "Take a contact out")
def take_out(actor: Actor, ident: int, contact: int) -> Answer:
    actions.take_out(db(), actor, now(), queries.journey(db(), ident), contact)
    return "", 204
