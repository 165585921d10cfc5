"""Tasks for colleagues: what they are asked to do for a contact, by journeys."""

from collections.abc import Iterator

import flask
from sqlalchemy import orm

from meadowrun.base.audit import Actor
from meadowrun.base.manifest import Feature, Thing, Way
from meadowrun.core.language import Wording
from meadowrun.core.tasks import KINDS
from meadowrun.shell.accounts import may
from meadowrun.shell.request import db
from meadowrun.tasks import queries

#: So many are shown among what waits.
_SHOWN = 5


def _mine(session: orm.Session, who: Actor) -> Iterator[Thing]:
    """The tasks of a colleague that are due first; admins see those that are nobody's, too."""
    if who.user_id is None:
        return
    rows = [
        one
        for one in queries.tasks(session, who.user_id, "open")
        if one.task.user_id == who.user_id or may(who, "admin")
    ]
    for one in rows[:_SHOWN]:
        named = " ".join(part for part in (one.contact.first_name, one.contact.last_name) if part)
        yield Thing(
            KINDS[one.task.kind],
            one.task.subject,
            flask.url_for("tasks.table"),
            named or one.contact.email or "",
        )


def _of_contact(ident: int) -> str:
    """The tasks about a contact; nothing where there are none."""
    found = queries.of_contact(db(), ident)
    return flask.render_template("tasks/of_contact.html", rows=found, kinds=KINDS) if found else ""


FEATURE = Feature(
    waits=_mine,
    pages={"views": ""},
    does=(
        Way(
            Wording("Tasks"),
            "tasks.table",
            Wording("to-do colleagues calls appointments leads away"),
        ),
    ),
    parts={"contact.margin": _of_contact},
)
