"""What a view has at hand of people: the words their fields, events and names are spoken of in, and
the moment at which it looks at them."""

import flask

from meadowrun.core.audience.fields import Dictionary
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.shell.request import db, now, zone


def words() -> Dictionary:
    if "words" not in flask.g:
        flask.g.words = dictionary(db())
    found: Dictionary = flask.g.words
    return found


def moment() -> Moment:
    """This request's look at people."""
    return Moment(db(), words(), now(), zone())
