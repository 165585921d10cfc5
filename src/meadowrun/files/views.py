"""The store's pages, and the public addresses of pictures and documents."""

import io

import flask

from meadowrun.base import signing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.files import actions, queries
from meadowrun.people.models import StoredFile
from meadowrun.shell.request import Answer, actor, db, done, needs, now, public, settings, uploaded

pages = flask.Blueprint("files", __name__)


@pages.get("/files")
def table() -> Answer:
    return _table(None)


def _table(problem: MeadowrunError | None) -> str:
    rows = [(file, queries.users(db(), file.handle)) for file in queries.files(db())]
    return flask.render_template(
        "files/table.html", rows=rows, problem=problem, public_url=settings().public_url
    )


@pages.get("/files/pictures")
def pictures() -> Answer:
    """What the editor offers to choose from."""
    return flask.jsonify(
        pictures=[
            {"src": f"/f/{f.handle}", "name": f.name}
            for f in queries.files(db(), pictures_only=True, most=60)
        ]
    )


@pages.post("/files")
@needs("author")
def upload() -> Answer:
    """A picture or document; the editor gets JSON, the store's own form a page."""
    given = flask.request.files.get("file")
    try:
        file = actions.keep(
            db(), actor(), now(), (given.filename or "") if given else "", uploaded(given)
        )
    except MeadowrunError as problem:
        if flask.request.accept_mimetypes.best == "application/json":
            raise
        db().rollback()
        return _table(problem), problem.status
    if flask.request.accept_mimetypes.best == "application/json":
        return flask.jsonify(
            src=f"/{'f' if file.width else 'd'}/{file.handle}",
            name=file.name,
            size=file.size,
            width=file.width,
            height=file.height,
        )
    return done("files.table", Wording("“%(name)s” was uploaded.", name=file.name))


@pages.post("/files/<int:ident>/replace")
@needs("author")
def replace(ident: int) -> Answer:
    file, given = db().get(StoredFile, ident), flask.request.files.get("file")
    if file is None:
        flask.abort(404)
    try:
        actions.keep(
            db(), actor(), now(), (given.filename or "") if given else "", uploaded(given), file
        )
    except MeadowrunError as problem:
        db().rollback()
        return _table(problem), problem.status
    return done(
        "files.table",
        Wording(
            "“%(name)s” now replaces the previous file everywhere. Mail apps may show the "
            "old one for a while.",
            name=file.name,
        ),
    )


@pages.post("/files/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    file = db().get(StoredFile, ident)
    if file is None:
        flask.abort(404)
    used = queries.users(db(), file.handle)
    if used:
        raise Invalid(
            Wording(
                "“%(name)s” is used in %(places)s. Remove it there first.",
                name=file.name,
                places=", ".join(name for _, _, name in used[:3]),
            )
        )
    db().delete(file)
    return done("files.table", Wording("“%(name)s” was deleted.", name=file.name))


@pages.get("/f/<handle>")
@public
def picture(handle: str) -> Answer:
    """A picture; with ?w= the smallest kept size that is at least so wide."""
    found = queries.by_handle(db(), handle)
    if not found.media_type.startswith("image/"):
        flask.abort(404)
    wanted = flask.request.args.get("w", "")
    content = actions.sized(db(), found, int(wanted)) if is_whole(wanted) else found.content
    response = flask.send_file(io.BytesIO(content), mimetype=found.media_type)
    # An hour: it may be replaced under its address.
    response.headers["Cache-Control"] = "public, max-age=3600"
    response.headers["Content-Security-Policy"] = "default-src 'none'; sandbox"
    return response


@pages.get("/d/<handle>")
@public
def document(handle: str) -> Answer:
    """A document at its tracked address: every look is counted, by a known person where the address
    says who."""
    found = queries.by_handle(db(), handle)
    if found.media_type.startswith("image/"):
        flask.abort(404)
    who = signing.who_visits(settings().secret, flask.request.args.get("mr", ""), now())
    if flask.request.method != "HEAD":
        actions.viewed(db(), now(), found.id, who)
    response = flask.send_file(
        io.BytesIO(found.content), mimetype=found.media_type, download_name=found.name
    )
    response.headers["Cache-Control"] = "private, no-store"
    response.headers["Content-Security-Policy"] = (
        "default-src 'none'; style-src 'unsafe-inline'; sandbox"
    )
    return response
