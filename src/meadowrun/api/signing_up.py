"""The API's endpoints about signing up, and about whether everything is set up."""

import flask

from meadowrun.api.door import TEXT, Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording, in_language
from meadowrun.people import queries
from meadowrun.readiness import looking
from meadowrun.shell.request import Answer, body, db, now, settings
from meadowrun.tracking import confirming

#: What else may be told of whoever signs up.
_DETAILS = ("first_name", "last_name", "language", "timezone", "town")

_SIGN_UP: Json = thing(
    ["email", "page", "said"],
    email=TEXT,
    topics={
        "type": "array",
        "items": TEXT,
        "description": "keys of the topics they want; none: all email",
    },
    page={**TEXT, "description": "where it was asked for, such as the address of the form"},
    said={**TEXT, "description": "what was said there, word for word: it is kept as evidence"},
    **dict.fromkeys(_DETAILS, TEXT),
)


@endpoint(
    "post",
    "/v1/sign-ups",
    "Sign somebody up: an email asks them to confirm, and no consent is recorded before they do. "
    "The answer is the same whether or not the address is on file",
    takes=_SIGN_UP,
    codes=(202,),
)
def sign_up(actor: Actor) -> Answer:
    data = body()
    known = {topic.key: topic.id for topic in queries.topics(db())}
    unknown = next((key for key in data.get("topics", []) if key not in known), None)
    if unknown is not None:
        raise Invalid(Wording("There is no topic “%(topic)s”.", topic=unknown), "topics")
    if not data["said"].strip() or not data["page"].strip():
        raise Invalid("“page” and “said” are the evidence; neither may be blank.", "said")
    confirming.ask(
        db(),
        now(),
        "sign_up",
        data["email"],
        [known[key] for key in data.get("topics", [])] or [0],
        data["page"],
        data["said"],
        details={name: data[name] for name in _DETAILS if data.get(name)},
    )
    return flask.jsonify(asked=True), 202


def _stands(one: looking.Stands) -> Json:
    return {
        "key": one.probe.key,
        "area": in_language(one.probe.area),
        "name": in_language(one.probe.name),
        "ok": one.found.ok if one.found else None,
        "said": one.found.said if one.found else "",
        "fix": "" if one.found and one.found.ok else in_language(one.probe.fix),
        "at": one.found.at.isoformat() if one.found else None,
    }


@endpoint("get", "/v1/readiness", "Whether everything is set up, as of the last try")
def readiness(actor: Actor) -> Answer:
    return flask.jsonify(items=[_stands(one) for one in looking.standing(db(), settings())])


@endpoint("post", "/v1/readiness/try", "Try now whether everything is set up")
def try_readiness(actor: Actor) -> Answer:
    found = looking.look(db(), settings(), now())
    return flask.jsonify(items=[_stands(one) for one in found])
