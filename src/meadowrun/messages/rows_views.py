"""Kept rows and adaptive blocks: written once, used in many messages, and followed by those that an
author chooses."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.content import document as doc
from meadowrun.core.content.lines import listed
from meadowrun.core.values import is_whole
from meadowrun.messages import keeping, queries, reading, views
from meadowrun.messages.models import KeptRow, KeptRowVersion, Message
from meadowrun.people.asked import words
from meadowrun.shell.request import actor, body, db, done, needs, not_done, now, zone

pages = flask.Blueprint("rows", __name__)


@pages.get("/messages/rows")
def table() -> object:
    rows = [
        (row, users, _behind(row, users))
        for row in queries.kept_rows(db())
        for users in [queries.users_of_row(db(), row.id)]
    ]
    return flask.render_template("messages/rows.html", rows=rows)


def _behind(row: KeptRow, users: list[tuple[Message, set[int]]]) -> int:
    """How many messages have an older version of a row."""
    return sum(versions != {row.version} for _, versions in users)


@pages.post("/messages/rows")
@needs("author")
def keep() -> object:
    """Keeps posted lines under a name, for the editor; or begins an empty row from the list's
    form."""
    if not flask.request.is_json:
        form = flask.request.form
        line = (
            doc.new_line(
                "only", cases=[{"id": "v1", "name": "", "lines": [], "part": "", "content": []}]
            )
            if form.get("kind") == "adaptive"
            else doc.new_line("text")
        )
        made = keeping.keep_row(db(), actor(), now(), form.get("name", ""), [line], words())
        return done("rows.edit", ident=made.id)
    made = keeping.keep_row(
        db(), actor(), now(), str(body().get("name", "")), listed(body().get("lines")), words()
    )
    return flask.jsonify(row=made.id, version=made.version)


def _document(lines: list[doc.Json]) -> doc.Json:
    """A row as a document, in the house's looks, for the editor and the reading side."""
    return doc.empty(queries.house(db()).looks) | {"lines": lines}


@pages.get("/messages/rows/<int:ident>")
def edit(ident: int) -> object:
    row = queries.kept_row(db(), ident)
    document = _document(row.lines)
    return flask.render_template(
        "messages/edit.html",
        message=None,
        row=row,
        base=f"/messages/rows/{ident}",
        reviews=[],
        senders=[],
        house=None,
        person=queries.telling_person(db(), document, words()),
        **views.editor(),
        **views.shown(document),
    )


@pages.post("/messages/rows/<int:ident>/save")
@needs("author")
def save(ident: int) -> object:
    row = queries.kept_row(db(), ident)
    document = body().get("document")
    lines = document.get("lines") if isinstance(document, dict) else None
    if not isinstance(lines, list):
        raise Invalid("Post a document with lines.")
    keeping.keep_row(db(), actor(), now(), row.name, lines, words(), row, views.version_of(body()))
    return flask.jsonify(views.saved_document(row.version, _document(row.lines), None))


@pages.get("/messages/rows/<int:ident>/read")
def read(ident: int) -> object:
    person = views.chosen_person(flask.request.args.get("as"))
    mail = views.rendered(Message(id=0), person, _document(queries.kept_row(db(), ident).lines))
    return flask.jsonify(
        subject="",
        preheader="",
        text=mail.text,
        person=person.id if person else None,
        name=views.name_of(person),
    )


@pages.get("/messages/rows/<int:ident>/read.html")
def read_html(ident: int) -> object:
    mail = views.rendered(
        Message(id=0),
        views.chosen_person(flask.request.args.get("as")),
        _document(queries.kept_row(db(), ident).lines),
    )
    return views.in_frame(views.looked(mail, flask.request.args.get("look", "desk")), heard=True)


@pages.get("/messages/rows/<int:ident>/line/<kind>")
@needs("author")
def new_line(ident: int, kind: str) -> object:
    return views.new_line(kind)


@pages.post("/messages/rows/<int:ident>/people")
def found_people(ident: int) -> object:
    return views.found_people()


@pages.get("/messages/rows/<int:ident>/people")
def people(ident: int) -> object:
    return views.people()


@pages.get("/messages/rows/<int:ident>/fills")
def fills(ident: int) -> object:
    return views.fills()


@pages.get("/messages/rows/<int:ident>/<int:version>")
def version(ident: int, version: int) -> object:
    """The lines of one version, for turning a kept row into lines of its own."""
    found = db().get(KeptRowVersion, (ident, version))
    if found is None:
        flask.abort(404)
    return flask.jsonify(lines=found.lines)


@pages.get("/messages/rows/<int:ident>/uses")
def uses(ident: int) -> object:
    """Where a row stands, which version, and what following the newest would change; the author
    chooses who follows."""
    row = queries.kept_row(db(), ident)
    readers, _ = reading.who_reads(db(), _document(row.lines), words(), now(), zone())
    versions = (
        db()
        .query(KeptRowVersion)
        .filter_by(row_id=ident)
        .order_by(KeptRowVersion.number.desc())
        .all()
    )
    users = queries.users_of_row(db(), ident)
    return flask.render_template(
        "messages/row_uses.html",
        row=row,
        users=users,
        behind=_behind(row, users),
        readers=readers,
        versions=versions,
    )


@pages.post("/messages/rows/<int:ident>/follow")
@needs("author")
def follow(ident: int) -> object:
    row = queries.kept_row(db(), ident)
    chosen = {int(n) for n in flask.request.form.getlist("message") if is_whole(n)}
    if not chosen:
        raise Invalid("Choose at least one message.", "message")
    followed = keeping.follow(db(), actor(), now(), row, chosen)
    return done(
        "rows.uses",
        f"{len(followed)} messages read version {row.version} now, each as a new draft."
        if len(followed) != 1
        else f"“{followed[0].name}” reads version {row.version} now, as a new draft.",
        ident=ident,
    )


@pages.post("/messages/rows/<int:ident>/restore/<int:number>")
@needs("author")
def restore(ident: int, number: int) -> object:
    row = queries.kept_row(db(), ident)
    found = db().get(KeptRowVersion, (ident, number))
    if found is None:
        flask.abort(404)
    keeping.keep_row(db(), actor(), now(), row.name, found.lines, words(), row)
    return done(
        "rows.uses", f"Version {number} is the newest again, as version {row.version}.", ident=ident
    )


@pages.post("/messages/rows/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> object:
    row = queries.kept_row(db(), ident)
    try:
        keeping.delete_row(db(), actor(), now(), row)
    except MeadowrunError as problem:
        return not_done(problem, "rows.uses", ident=ident)
    return done("rows.table", f"“{row.name}” was deleted.")
