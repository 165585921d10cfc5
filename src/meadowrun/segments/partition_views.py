"""Pages of partitions. A part's lines are written on the segment's own page, saved to the part."""

import itertools

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.values import is_whole
from meadowrun.people.asked import words
from meadowrun.people.queries import contacts_of
from meadowrun.segments import partitions
from meadowrun.segments.looking import look
from meadowrun.segments.page import looked_at
from meadowrun.segments.sets import STALE
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import actor, body, db, done, needs, not_done, now, today, zone

pages = flask.Blueprint("partitions", __name__)
PAGE = 100


@pages.get("/partitions")
def table() -> object:
    return flask.render_template(
        "segments/partitions.html", rows=partitions.every(db()), problem=None, name=""
    )


@pages.post("/partitions")
@needs("author")
def create() -> object:
    try:
        made = partitions.create(db(), actor(), now(), flask.request.form.get("name", ""))
    except MeadowrunError as problem:
        db().rollback()
        page = flask.render_template(
            "segments/partitions.html",
            rows=partitions.every(db()),
            problem=problem,
            name=flask.request.form.get("name", ""),
        )
        return page, problem.status
    return done("partitions.show", ident=made.id)


@pages.get("/partitions/<int:ident>")
@comes_later("Counting the parts")
def show(ident: int) -> object:
    partition = partitions.get(db(), ident)
    sizes, several, said, problem = [], 0, {}, None
    try:
        found = partitions.divided(db(), partition.parts, words(), now(), zone())
        sizes, several = found.sizes, len(found.several)
        said = {
            p["key"]: english.read_aloud(d.parse({"lines": p["lines"]}, words()), words(), today())
            for p in partition.parts
        }
    except d.DefinitionError as wrong:
        problem = wrong
    return flask.render_template(
        "segments/partition.html",
        partition=partition,
        sizes=sizes,
        several=several,
        said=said,
        problem=problem,
        using=partitions.using(db(), ident),
        uses=partitions.uses(db(), ident),
    )


@pages.get("/partitions/<int:ident>/several")
def several(ident: int) -> object:
    """The people who match more than one part, a page at a time, each with the parts they match;
    the first is theirs."""
    partition = partitions.get(db(), ident)
    after = int(flask.request.args["after"]) if is_whole(flask.request.args.get("after", "")) else 0
    found = partitions.divided(db(), partition.parts, words(), now(), zone())
    ids = list(itertools.islice((n for n in found.several if n > after), PAGE + 1))
    matched: dict[int, list[str]] = {ident: [] for ident in ids}
    for part in partition.parts:
        looked = look(
            db(), d.parse({"lines": part["lines"]}, words()), words(), now(), zone(), STALE
        )
        for one in ids:
            if one in looked.sieve.members:
                matched[one].append(part["name"])
    rows = contacts_of(db(), ids[:PAGE])
    return flask.render_template(
        "segments/several.html",
        partition=partition,
        rows=rows,
        matched=matched,
        total=len(found.several),
        after=ids[PAGE - 1] if len(ids) > PAGE else None,
    )


@pages.get("/partitions/<int:ident>/parts/<key>")
@needs("author")
def part(ident: int, key: str) -> object:
    """A part on the segment's page; the key “new” adds one."""
    partition = partitions.get(db(), ident)
    found = next(
        (p for p in partition.parts if p["key"] == key), {"key": "", "name": "", "lines": []}
    )
    if key != "new" and not found["key"]:
        flask.abort(404)
    return flask.render_template(
        "segments/edit.html",
        segment=None,
        partition=partition,
        part=found,
        **looked_at({"format": 1, "lines": found["lines"]}),
    )


@pages.post("/partitions/<int:ident>/save")
@needs("author")
def save(ident: int) -> object:
    data = body()
    partition = partitions.get(db(), ident)
    definition = data.get("definition") or {}
    if not isinstance(definition, dict):
        raise Invalid("The definition is not an object with a list of lines.", "definition")
    partitions.change(
        db(),
        actor(),
        now(),
        words(),
        partition,
        {
            "do": "set",
            "key": data.get("part"),
            "name": data.get("name"),
            "version": data.get("version"),
            "lines": definition.get("lines"),
        },
    )
    flask.flash("Saved.")
    return flask.jsonify(to=flask.url_for("partitions.show", ident=ident))


@pages.post("/partitions/<int:ident>/<any(up, down, remove, rename):verb>")
@needs("author")
def change(ident: int, verb: str) -> object:
    partition = partitions.get(db(), ident)
    form = flask.request.form
    try:
        partitions.change(
            db(),
            actor(),
            now(),
            words(),
            partition,
            {"do": verb, "key": form.get("key"), "name": form.get("name")},
        )
    except MeadowrunError as problem:
        return not_done(problem, "partitions.show", ident=ident)
    return done("partitions.show", ident=ident)


@pages.post("/partitions/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> object:
    partition = partitions.get(db(), ident)
    try:
        partitions.delete(db(), actor(), now(), partition)
    except MeadowrunError as problem:
        return not_done(problem, "partitions.show", ident=ident)
    return done("partitions.table", f"“{partition.name}” was deleted.")
