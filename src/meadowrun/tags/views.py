"""The page of all tags, and of one; and putting tags on things."""

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.people import list_queries
from meadowrun.people import queries as people
from meadowrun.people.actions import full_name
from meadowrun.people.models import PeopleList
from meadowrun.shell.request import Answer, actor, db, done, needs, not_done, now
from meadowrun.tags import actions, page, queries
from meadowrun.tags.models import Tag

pages = flask.Blueprint("tags", __name__)
#: what bears tags → the table of them
TABLES = {
    "campaign": "campaigns.table",
    "segment": "segments.table",
    "message": "messages.table",
    "list": "keeping.lists",
}
#: what bears tags → its page, and what several are called
KINDS = {
    "campaign": ("campaigns.show", "campaigns"),
    "segment": ("segments.edit", "segments"),
    "message": ("messages.edit", "messages"),
    "list": ("keeping.list_members", "lists"),
}


@pages.get("/tags")
def table() -> Answer:
    return flask.render_template(
        "tags/table.html", rows=queries.tree(db()), kinds=KINDS, tables=TABLES, problem=None
    )


@pages.post("/tags")
@needs("author")
def make() -> Answer:
    form = flask.request.form
    try:
        paths = actions.read(form.get("tags", ""))
        if not paths:
            raise Invalid("Type the tag, with / for a tag inside another: season/winter.", "tags")
        for ident in actions.numbers(db(), now(), paths):
            if form.get("meaning"):
                actions.describe(db(), actor(), now(), _tag(ident), form["meaning"])
    except MeadowrunError as problem:
        db().rollback()
        return flask.render_template(
            "tags/table.html", rows=queries.tree(db()), kinds=KINDS, tables=TABLES, problem=problem
        ), problem.status
    return done("tags.table")


def _tag(ident: int) -> Tag:
    return existing(db(), Tag, ident, "tag")


@pages.get("/tags/<int:ident>")
def show(ident: int) -> Answer:
    tag = _tag(ident)
    rows = queries.tree(db())
    here = next(row for row in rows if row.tag.id == ident)
    return flask.render_template(
        "tags/show.html",
        tag=tag,
        row=here,
        inside=[r for r in rows if r.tag.path.startswith(tag.path + "/")],
        bearers=queries.bearers(db(), tag),
        uses=queries.names_it(db(), tag),
        kinds=KINDS,
    )


@pages.post("/people/<int:ident>/tags")
@needs("author")
def put_on_contact(ident: int) -> Answer:
    contact = people.contact(db(), ident)
    try:
        actions.put_on_contact(
            db(),
            actor(),
            now(),
            ident,
            full_name(contact),
            actions.read(flask.request.form.get("tags", "")),
        )
    except MeadowrunError as problem:
        return not_done(problem, "people.show", ident=ident)
    return done("people.show", ident=ident)


@pages.post("/lists/<int:ident>/tag")
@needs("author")
def put_on_list(ident: int) -> Answer:
    """Gives the people of a list a tag, or takes it from them."""
    people_of = list_queries.ids(db(), existing(db(), PeopleList, ident, "list").id)
    try:
        return done(
            "keeping.list_members", page.give_or_take(flask.request.form, people_of), ident=ident
        )
    except MeadowrunError as problem:
        return not_done(problem, "keeping.list_members", ident=ident)


@pages.post("/tags/<int:ident>/<any(move, describe, delete):verb>")
@needs("author")
def change(ident: int, verb: str) -> Answer:
    tag, form = _tag(ident), flask.request.form
    path = tag.path
    try:
        if verb == "describe":
            actions.describe(db(), actor(), now(), tag, form.get("meaning", ""))
        elif verb == "move":
            actions.move(db(), actor(), now(), tag, form.get("path", ""))
            db().flush()
            if db().get(Tag, ident) is None:
                return done(
                    "tags.table",
                    Wording(
                        "“%(path)s” was merged into the other; everything that had it now has "
                        "that one.",
                        path=path,
                    ),
                )
        else:
            actions.delete(db(), actor(), now(), tag)
            return done(
                "tags.table",
                Wording("“%(path)s” was deleted; nothing that had it was deleted.", path=path),
            )
    except MeadowrunError as problem:
        return not_done(problem, "tags.show", ident=ident)
    return done("tags.show", "Saved.", ident=ident)


@pages.post("/tags/on/<kind>/<int:ident>")
@needs("author")
def put(kind: str, ident: int) -> Answer:
    """The tags of a campaign, segment, message or list, as they were typed."""
    if kind not in KINDS:
        raise Invalid("Only campaigns, segments, messages and lists can have tags.", "kind")
    page = KINDS[kind][0]
    try:
        actions.put_on(
            db(), actor(), now(), kind, ident, actions.read(flask.request.form.get("tags", ""))
        )
    except MeadowrunError as problem:
        return not_done(problem, page, ident=ident)
    return done(page, ident=ident)
