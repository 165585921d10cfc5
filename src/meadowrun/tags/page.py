"""Tags of people on their pages: shown, given and taken."""

from collections.abc import Mapping, Sequence

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core import wording
from meadowrun.core.language import Wording
from meadowrun.shell.request import actor, db, now
from meadowrun.tags import actions, queries


def give_or_take(form: Mapping[str, str], contact_ids: Sequence[int]) -> str:
    """Gives contacts the one tag of an answered form, or takes it from them; says what was done.
    Raises Invalid."""
    paths = actions.read(form.get("tags", ""))
    if len(paths) != 1:
        raise Invalid("Add or remove one tag at a time.", "tags")
    if form.get("do") == "take":
        had = actions.take(db(), actor(), now(), paths[0], contact_ids)
        return Wording(
            "“%(tag)s” was removed from %(people)s.", tag=paths[0], people=wording.people(had)
        )
    count = actions.give(db(), actor(), now(), paths[0], contact_ids)
    known = len(contact_ids) - count
    given = {"people": wording.people(count), "tag": paths[0]}
    if not known:
        return Wording("%(people)s got the tag “%(tag)s”.", **given)
    return Wording(
        "%(people)s got the tag “%(tag)s”; %(known)s had it already.",
        known=wording.people(known),
        **given,
    )


def of_contact(contact_id: int) -> str:
    """The tags of a contact, with the way to change them."""
    return flask.render_template(
        "tags/of_contact.html", contact_id=contact_id, tags=queries.of_contact(db(), contact_id)
    )
