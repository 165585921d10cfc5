"""One draft for several channels, copies, and deleting."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core import wording
from meadowrun.core.language import Wording
from meadowrun.messages import copying, queries
from meadowrun.people.asked import words
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now, settings

pages = flask.Blueprint("copying", __name__)


@pages.post("/messages/<int:ident>/also")
@needs("author")
def also(ident: int) -> Answer:
    """A new message that says the same: for another channel, or a copy."""
    source = queries.message(db(), ident)
    try:
        made, left = copying.also(
            db(), actor(), now(), source, flask.request.form.get("channel", ""), settings(), words()
        )
    except MeadowrunError as problem:
        return not_done(problem, "messages.edit", ident=ident)
    return done(
        "messages.edit",
        Wording("Started from “%(name)s”. %(said)s", name=source.name, said=said(left)),
        ident=made.id,
    )


def said(left: list[str]) -> str:
    """What was not copied, in words."""
    if not left:
        return Wording("Everything was copied.")
    return Wording("Not copied: %(left)s.", left=wording.joined(left, "and"))


@pages.post("/messages/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    message = queries.message(db(), ident)
    name = message.name
    try:
        copying.delete(db(), actor(), now(), message)
    except MeadowrunError as problem:
        return not_done(problem, "messages.edit", ident=ident)
    return done("messages.table", Wording("“%(name)s” was deleted.", name=name))
