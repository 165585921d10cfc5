"""shared parts and adaptive blocks: written once, used in many messages, and followed by those that
an author chooses."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.content import document as doc
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.messages import (
    actions,
    editing,
    follows,
    page,
    queries,
    readership,
    reading,
    shared,
    views,
)
from meadowrun.messages.models import Message, SharedPart, SharedPartVersion
from meadowrun.people.asked import moment, words
from meadowrun.shell.framed import in_frame
from meadowrun.shell.request import Answer, actor, body, db, done, needs, not_done, now

pages = flask.Blueprint("shared", __name__)


@pages.get("/messages/shared")
def table() -> Answer:
    parts = [
        (part, users, _behind(part, users))
        for part in queries.shared_parts(db())
        for users in [queries.users_of_part(db(), part.id)]
    ]
    return flask.render_template("messages/shared_parts.html", parts=parts)


def _behind(part: SharedPart, users: list[tuple[Message, set[int]]]) -> int:
    """How many messages have an older version of a part."""
    return sum(versions != {part.version} for _, versions in users)


@pages.post("/messages/shared")
@needs("author")
def begin() -> Answer:
    """Begins a part with one empty line."""
    form = flask.request.form
    case = {"id": "v1", "name": "", "lines": [], "group": "", "content": []}
    line = (
        doc.new_line("only", cases=[case])
        if form.get("kind") == "adaptive"
        else doc.new_line("text")
    )
    made = shared.keep_part(db(), actor(), now(), form.get("name", ""), [line], words())
    return done("shared.edit", ident=made.id)


def _document(lines: list[doc.Json]) -> doc.Json:
    """A part as a document, in the house's looks, for the editor and the reading side."""
    return doc.empty(queries.house(db()).looks) | {"lines": lines}


@pages.get("/messages/shared/<int:ident>")
def edit(ident: int) -> Answer:
    part = queries.shared_part(db(), ident)
    document = _document(part.lines)
    return flask.render_template(
        "messages/edit.html",
        message=None,
        name_of=page.name_of,
        part=part,
        base=f"/messages/shared/{ident}",
        reviews=[],
        senders=[],
        house=None,
        through=page.through(),
        person=readership.telling_person(db(), document, words()),
        **views.editor(),
        **follows.shown(document),
    )


@pages.post("/messages/shared/<int:ident>/save")
@needs("author")
def save(ident: int) -> Answer:
    part, data = queries.shared_part(db(), ident), body()
    posted = editing.apply(
        data,
        editing.Newest(_document(part.lines), part.version, part.changed_by, "shared part"),
        lambda given: actions.take(given, words()),
        views.around(),
    )
    shared.keep_part(
        db(),
        actor(),
        now(),
        part.name,
        posted.document["lines"],
        words(),
        part,
        editing.based_on(data),
    )
    document = _document(part.lines)
    done_with = editing.Posted(document, posted.touched)
    return views.answered(part.version, part.version, done_with, None, follows.shown(document))


@pages.get("/messages/shared/<int:ident>/read")
def read(ident: int) -> Answer:
    person = page.chosen_person(flask.request.args.get("as"))
    mail = page.rendered(Message(id=0), person, _document(queries.shared_part(db(), ident).lines))
    return flask.jsonify(
        subject="",
        preheader="",
        text=mail.text,
        person=person.id if person else None,
        name=page.name_of(person),
    )


@pages.get("/messages/shared/<int:ident>/read.html")
def read_html(ident: int) -> Answer:
    mail = page.rendered(
        Message(id=0),
        page.chosen_person(flask.request.args.get("as")),
        _document(queries.shared_part(db(), ident).lines),
    )
    return in_frame(views.looked(mail, flask.request.args.get("look", "desktop")), heard=True)


@pages.post("/messages/shared/<int:ident>/people")
def found_people(ident: int) -> Answer:
    return views.found_people()


@pages.get("/messages/shared/<int:ident>/people")
def people(ident: int) -> Answer:
    return views.people()


@pages.get("/messages/shared/<int:ident>/fills")
def fills(ident: int) -> Answer:
    return views.fills()


@pages.get("/messages/shared/<int:ident>/uses")
def uses(ident: int) -> Answer:
    """Where a part stands, which version, and what following the newest would change; the author
    chooses who follows."""
    part = queries.shared_part(db(), ident)
    readers, _ = reading.who_reads(moment(), _document(part.lines))
    versions = (
        db()
        .query(SharedPartVersion)
        .filter_by(part_id=ident)
        .order_by(SharedPartVersion.number.desc())
        .all()
    )
    users = queries.users_of_part(db(), ident)
    return flask.render_template(
        "messages/shared_part.html",
        part=part,
        users=users,
        behind=_behind(part, users),
        readers=readers,
        versions=versions,
    )


@pages.post("/messages/shared/<int:ident>/follow")
@needs("author")
def follow(ident: int) -> Answer:
    part = queries.shared_part(db(), ident)
    chosen = {int(n) for n in flask.request.form.getlist("message") if is_whole(n)}
    if not chosen:
        raise Invalid("Choose at least one message.", "message")
    followed = shared.follow(db(), actor(), now(), part, chosen)
    return done(
        "shared.uses",
        Wording(
            "%(followed)s messages read version %(version)s now, each as a new draft.",
            followed=len(followed),
            version=part.version,
        )
        if len(followed) != 1
        else Wording(
            "“%(name)s” reads version %(version)s now, as a new draft.",
            name=followed[0].name,
            version=part.version,
        ),
        ident=ident,
    )


@pages.post("/messages/shared/<int:ident>/restore/<int:number>")
@needs("author")
def restore(ident: int, number: int) -> Answer:
    part = queries.shared_part(db(), ident)
    found = db().get(SharedPartVersion, (ident, number))
    if found is None:
        flask.abort(404)
    shared.keep_part(db(), actor(), now(), part.name, found.lines, words(), part)
    return done(
        "shared.uses",
        Wording(
            "Version %(number)s is the newest again, as version %(version)s.",
            number=number,
            version=part.version,
        ),
        ident=ident,
    )


@pages.post("/messages/shared/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    part = queries.shared_part(db(), ident)
    try:
        shared.delete_part(db(), actor(), now(), part)
    except MeadowrunError as problem:
        return not_done(problem, "shared.uses", ident=ident)
    return done("shared.table", Wording("“%(name)s” was deleted.", name=part.name))
