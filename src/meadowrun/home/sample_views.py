"""The page of the sample campaign: made, walked through, and thrown away."""

import flask

from meadowrun.base.errors import MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.home import sample
from meadowrun.segments.page import users
from meadowrun.sends.models import Send
from meadowrun.shell.request import Answer, actor, db, done, needs, now, settings, uses_of

pages = flask.Blueprint("sample", __name__, url_prefix="/sample")


@pages.get("")
@needs("author")
def show() -> Answer:
    """What the sample is and where it begins, or the way through it."""
    return _page(None)


@pages.post("")
@needs("author")
def make() -> Answer:
    """Makes it, with an address to which all its emails go."""
    address = flask.request.form.get("address", "")
    try:
        sample.make(db(), actor(), now(), settings(), address)
    except MeadowrunError as problem:
        db().rollback()
        return _page(problem), problem.status
    return done("sample.show", Wording("Made. Begin with the first step."))


@pages.post("/delete")
@needs("author")
def throw_away() -> Answer:
    """Takes it away, and says what stays on record."""
    try:
        stays = sample.throw_away(db(), actor(), now(), _uses)
    except MeadowrunError as problem:
        db().rollback()
        return _page(problem), problem.status
    if not stays:
        return done("home.today", Wording("The sample campaign is gone."))
    said = Wording(
        "The sample’s people are gone. What was sent or is used stays: %(names)s.",
        names=", ".join(stays),
    )
    return done("home.today", said)


def _uses(kind: str, ident: int) -> list[str]:
    """What is made of a thing, in words."""
    if kind == "segment":
        return users(ident)
    return [f"the {use.what} “{use.name}”" for use in uses_of(kind, ident)]


def _page(problem: MeadowrunError | None) -> str:
    found = sample.current(db())
    send = db().get(Send, found.send_id) if found and found.send_id else None
    return flask.render_template(
        "sample.html",
        sample=found,
        sent=send is not None and send.taken_at is not None,
        problem=problem,
        address=flask.request.form.get("address") or str(flask.g.user.email),
        people=sample.PEOPLE,
        towns=sample.TOWNS,
    )
