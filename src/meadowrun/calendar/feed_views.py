"""The calendar for somebody's own calendar program, and its address."""

import flask

from meadowrun.calendar import feeds, queries
from meadowrun.people.asked import moment
from meadowrun.shell.request import Answer, actor, db, done, needs, now, public, settings

pages = flask.Blueprint("feed", __name__, url_prefix="/calendar")


@pages.post("/address")
@needs("viewer")
def make() -> Answer:
    """A new address, shown once."""
    key = feeds.make(db(), actor(), now())
    address = f"{settings().public_url}{flask.url_for('feed.read', key=key)}"
    return flask.render_template("calendar/address.html", address=address)


@pages.post("/address/withdraw")
@needs("viewer")
def withdraw() -> Answer:
    """The address opens nothing any more."""
    feeds.withdraw(db(), actor(), now())
    return done("calendar.show", "The address was withdrawn and no longer works.")


@pages.get("/feed/<key>.ics")
@public
def read(key: str) -> Answer:
    """The calendar, for whoever knows the address."""
    feeds.opened(db(), now(), key)
    found = queries.entries(moment(), now() - feeds.BACK, now() + feeds.AHEAD, queries.Shown())
    made = feeds.text(found, settings().public_url, settings().organisation, now())
    return flask.Response(made, mimetype="text/calendar")
