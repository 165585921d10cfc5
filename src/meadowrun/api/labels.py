"""The API's endpoints about tags."""

import flask

from meadowrun.api.door import NUMBERS, TEXT, Json, endpoint, thing
from meadowrun.base.audit import Actor
from meadowrun.base.db import existing as found_row
from meadowrun.base.errors import Invalid
from meadowrun.people.actions import full_name
from meadowrun.people.models import Contact
from meadowrun.shell.request import Answer, body, db, now
from meadowrun.tags import actions, queries
from meadowrun.tags.models import Tag

_PATH: Json = {**TEXT, "description": "season/winter"}


def of_contact(contact: Contact) -> list[str]:
    """The paths of a contact's tags."""
    return queries.of_contacts(db(), [contact.id]).get(contact.id, [])


def take_tags(actor: Actor, contact: Contact, data: Json) -> None:
    """Makes what `data` names as tags those of the contact, if it names any. Raises Invalid."""
    if "tags" not in data:
        return
    actions.put_on_contact(db(), actor, now(), contact.id, full_name(contact), paths(data["tags"]))


def paths(given: list[str]) -> list[str]:
    """The tags that some texts name, one each. Raises Invalid."""
    if any("," in path for path in given):
        raise Invalid("“tags” names one tag in each text, without commas.", "tags")
    return actions.read("\n".join(given))


def _path(data: Json) -> str:
    found = paths([data["tag"]])
    if len(found) != 1:
        raise Invalid("“tag” is the path of one tag, like season/winter.", "tag")
    return found[0]


@endpoint(
    "get",
    "/v1/tags",
    "All tags in their order, with how many people and things have each or one inside it",
)
def all_tags(actor: Actor) -> Answer:
    return flask.jsonify(
        items=[
            {
                "id": row.tag.id,
                "tag": row.tag.path,
                "meaning": row.tag.meaning,
                "people": row.contacts,
                **row.things,
            }
            for row in queries.tree(db())
        ]
    )


@endpoint(
    "post",
    "/v1/tags",
    "Create a tag, or describe one",
    takes=thing(["tag"], tag=_PATH, meaning=TEXT),
    codes=(201,),
)
def make_tag(actor: Actor) -> Answer:
    data = body()
    path = _path(data)
    (ident,) = actions.numbers(db(), now(), [path])
    if "meaning" in data:
        actions.describe(db(), actor, now(), found_row(db(), Tag, ident, "tag"), data["meaning"])
    return flask.jsonify(id=ident, tag=path), 201


@endpoint(
    "get",
    "/v1/tags/<int:ident>/bearers",
    "The campaigns, segments, messages and lists that have a tag or one inside it",
)
def tag_bearers(actor: Actor, ident: int) -> Answer:
    return flask.jsonify(
        items=[
            {"kind": kind, "id": number, "name": name}
            for kind, number, name in queries.bearers(db(), found_row(db(), Tag, ident, "tag"))
        ]
    )


@endpoint(
    "put",
    "/v1/tags/of/<kind>/<int:ident>",
    "Replace the tags of a campaign, segment, message or list with these",
    takes=thing(["tags"], tags={"type": "array", "items": _PATH}),
)
def tag_thing(actor: Actor, kind: str, ident: int) -> Answer:
    wanted = paths(body()["tags"])
    actions.put_on(db(), actor, now(), kind, ident, wanted)
    return flask.jsonify(kind=kind, id=ident, tags=wanted)


@endpoint(
    "post",
    "/v1/tags/contacts",
    "Give contacts a tag; a new one is created",
    takes=thing(["tag", "contacts"], tag=_PATH, contacts=NUMBERS),
)
def give_tag(actor: Actor) -> Answer:
    data = body()
    return flask.jsonify(given=actions.give(db(), actor, now(), _path(data), data["contacts"]))


@endpoint(
    "delete",
    "/v1/tags/contacts",
    "Remove a tag from contacts; tags inside it stay",
    takes=thing(["tag", "contacts"], tag=_PATH, contacts=NUMBERS),
)
def take_tag(actor: Actor) -> Answer:
    data = body()
    return flask.jsonify(taken=actions.take(db(), actor, now(), _path(data), data["contacts"]))


@endpoint(
    "put",
    "/v1/tags/<int:ident>",
    "Move a tag, or describe it; tags inside it move with it",
    takes=thing([], tag=_PATH, meaning=TEXT),
)
def change_tag(actor: Actor, ident: int) -> Answer:
    data, tag = body(), found_row(db(), Tag, ident, "tag")
    if "meaning" in data:
        actions.describe(db(), actor, now(), tag, str(data["meaning"]))
    if "tag" in data:
        path = _path(data)
        actions.move(db(), actor, now(), tag, path)
        return flask.jsonify(
            id=next(n for n, known in queries.paths(db()).items() if known == path), tag=path
        )
    return flask.jsonify(id=tag.id, tag=tag.path)


@endpoint(
    "delete",
    "/v1/tags/<int:ident>",
    ("Delete a tag that no condition names; what has the tag stays"),
)
def delete_tag(actor: Actor, ident: int) -> Answer:
    actions.delete(db(), actor, now(), found_row(db(), Tag, ident, "tag"))
    return flask.jsonify(deleted=ident)
