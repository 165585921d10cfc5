"""The API's endpoints about scores."""

from typing import Any

import flask

from meadowrun.api.door import TEXT, Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording
from meadowrun.core.scores import ScoreProblem
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import contact as contact_of
from meadowrun.scores import actions, queries, working
from meadowrun.scores.models import Score
from meadowrun.shell.request import Answer, body, db, now

_RULE: Json = thing(
    ["points", "lines"],
    points={"type": "number"},
    each={"type": "boolean", "description": "each time it happened, or while it holds"},
    most={"type": ["integer", "null"], "description": "how often it counts at most"},
    lines={
        "type": "array",
        "items": {"type": "object"},
        "description": "lines of a segment’s definition",
    },
)
_SCORE: Json = thing(
    [],
    name=TEXT,
    meaning=TEXT,
    half_life={
        "type": ["integer", "null"],
        "description": "days after which something that happened counts half",
    },
    rules={"type": "array", "items": _RULE},
)


def _score(score: Score, people: int | None = None) -> Json:
    return {
        "id": score.id,
        "name": score.name,
        "meaning": score.meaning,
        "half_life": score.half_life,
        "rules": score.rules,
        "version": score.version,
        "worked_out_at": score.worked_out_at.isoformat() if score.worked_out_at else None,
        **({"people": people} if people is not None else {}),
    }


def _given() -> dict[str, Any]:
    return {
        name: value
        for name, value in body().items()
        if name in ("name", "meaning", "half_life", "rules")
    }


@endpoint("get", "/v1/scores", "All scores with their rules, and how many people have points")
def all_scores(actor: Actor) -> Answer:
    return flask.jsonify(items=[_score(score, people) for score, people in queries.scores(db())])


@endpoint(
    "post",
    "/v1/scores",
    "Create a score; everyone’s points are worked out in the background",
    codes=(201,),
    takes={**_SCORE, "required": ["name"]},
)
def add_score(actor: Actor) -> Answer:
    return flask.jsonify(_score(actions.save(db(), actor, now(), words(), _given()))), 201


@endpoint("put", "/v1/scores/<int:ident>", "Change the given settings of a score", takes=_SCORE)
def change_score(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(
        _score(actions.save(db(), actor, now(), words(), _given(), queries.score(db(), ident)))
    )


@endpoint("delete", "/v1/scores/<int:ident>", "Delete a score that no condition asks for")
def delete_score(actor: Actor, ident: int) -> Answer:
    actions.delete(db(), actor, now(), queries.score(db(), ident))
    return flask.jsonify(deleted=ident)


@endpoint(
    "post",
    "/v1/contacts/<int:ident>/points",
    "Add or subtract points of a contact, with the reason",
    takes=thing(
        ["score", "points", "why"], score={"type": "integer"}, points={"type": "number"}, why=TEXT
    ),
)
def give_points(actor: Actor, ident: int) -> Answer:
    data, contact = body(), contact_of(db(), ident)
    score = queries.score(db(), data["score"])
    actions.give(db(), actor, now(), score, contact, data["points"], data["why"])
    try:
        working.work_out(moment(), score, ident)
    except ScoreProblem as problem:
        raise Invalid(
            Wording(
                "“%(name)s” cannot be worked out: %(problem)s", name=score.name, problem=problem
            ),
            "score",
        ) from None
    return flask.jsonify(
        score=score.name, points=queries.kept_points(db(), ident).get(score.name, 0)
    )
