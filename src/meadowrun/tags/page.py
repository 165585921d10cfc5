"""Tags of people on their pages: shown, given and taken."""

from collections.abc import Mapping, Sequence

import flask

from meadowrun.base.errors import Invalid
from meadowrun.core import wording
from meadowrun.shell.request import actor, db, now
from meadowrun.tags import actions, queries


def give_or_take(form: Mapping[str, str], contact_ids: Sequence[int]) -> str:
    """Gives contacts the one tag of an answered form, or takes it from them; says what was done.
    Raises Invalid."""
    paths = actions.read(form.get("tags", ""))
    if len(paths) != 1:
        raise Invalid("Add or remove one tag at a time.", "tags")
    if form.get("do") == "take":
        return (
            f"“{paths[0]}” was removed from "
            f"{wording.people(actions.take(db(), actor(), now(), paths[0], contact_ids))}."
        )
    count = actions.give(db(), actor(), now(), paths[0], contact_ids)
    known = len(contact_ids) - count
    return f"{wording.people(count)} got the tag “{paths[0]}”" + (
        f"; {wording.people(known)} had it already." if known else "."
    )


def of_contact(contact_id: int) -> str:
    """The tags of a contact, with the way to change them."""
    return flask.render_template(
        "tags/of_contact.html", contact_id=contact_id, tags=queries.of_contact(db(), contact_id)
    )
