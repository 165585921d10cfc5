"""Conditions of words inside a text, for the editors: kept as they are said, shown again to be
changed."""

import flask

from meadowrun.messages import asking, follows
from meadowrun.messages.models import Condition
from meadowrun.people.asked import words
from meadowrun.shell.request import Answer, body, db, needs

pages = flask.Blueprint("asking", __name__)


@pages.post("/messages/conditions")
@needs("author")
def keep() -> Answer:
    """The key by which a text names what the posted lines say, and the sentence."""
    lines = body().get("lines")
    return _answer(asking.keep(db(), lines if isinstance(lines, list) else [], words()))


@pages.get("/messages/conditions/<key>")
def show(key: str) -> Answer:
    found = db().get(Condition, key)
    if found is None:
        flask.abort(404)
    return _answer(found)


def _answer(condition: Condition) -> Answer:
    return flask.jsonify(
        key=condition.key,
        lines=condition.lines,
        said=follows.condition_english({"lines": condition.lines}, 0),
    )
