"""What a view has at hand of people: the words their fields, events and names are spoken of in."""

import flask

from meadowrun.core.audience.fields import Dictionary
from meadowrun.people.queries import dictionary
from meadowrun.shell.request import db


def words() -> Dictionary:
    if "words" not in flask.g:
        flask.g.words = dictionary(db())
    found: Dictionary = flask.g.words
    return found
