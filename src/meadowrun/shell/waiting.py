"""What waits for the person who is signed in, as the features say it."""

import flask
import sqlalchemy as sa

from meadowrun.base.manifest import Thing
from meadowrun.shell.request import actor, db, features


def mine() -> list[Thing]:
    """What waits for whoever is signed in, asked once a request, by the pages that show it. Nothing
    while the database cannot be asked: a page that says so must not fail by this."""
    if "waits" not in flask.g:
        try:
            flask.g.waits = (
                [thing for one in features() if one.waits for thing in one.waits(db(), actor())]
                if flask.g.get("user")
                else []
            )
        except sa.exc.SQLAlchemyError:
            flask.g.waits = []
    found: list[Thing] = flask.g.waits
    return found
