"""Pages of groupings. A group's lines are written on the segment's own page, saved to the group."""

import itertools

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import contacts_of
from meadowrun.segments import groupings
from meadowrun.segments.looking import look
from meadowrun.segments.page import looked_at
from meadowrun.segments.sets import STALE
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import (
    Answer,
    actor,
    body,
    db,
    done,
    needs,
    not_done,
    notice,
    now,
    today,
)

pages = flask.Blueprint("groupings", __name__)
PAGE = 100


@pages.get("/groupings")
def table() -> Answer:
    return flask.render_template(
        "segments/groupings.html", rows=groupings.every(db()), problem=None, name=""
    )


@pages.post("/groupings")
@needs("author")
def create() -> Answer:
    try:
        made = groupings.create(db(), actor(), now(), flask.request.form.get("name", ""))
    except MeadowrunError as problem:
        db().rollback()
        page = flask.render_template(
            "segments/groupings.html",
            rows=groupings.every(db()),
            problem=problem,
            name=flask.request.form.get("name", ""),
        )
        return page, problem.status
    return done("groupings.show", ident=made.id)


@pages.get("/groupings/<int:ident>")
@comes_later("Counting the groups")
def show(ident: int) -> Answer:
    grouping = groupings.get(db(), ident)
    sizes, several, said, problem = [], 0, {}, None
    try:
        found = groupings.divided(moment(), grouping.groups)
        sizes, several = found.sizes, len(found.several)
        said = {
            p["key"]: english.read_aloud(d.parse({"lines": p["lines"]}, words()), words(), today())
            for p in grouping.groups
        }
    except d.DefinitionError as wrong:
        problem = wrong
    return flask.render_template(
        "segments/grouping.html",
        grouping=grouping,
        sizes=sizes,
        several=several,
        said=said,
        problem=problem,
        using=groupings.using(db(), ident),
        uses=groupings.uses(db(), ident),
    )


@pages.get("/groupings/<int:ident>/several")
def several(ident: int) -> Answer:
    """The people who match more than one group, a page at a time, each with the groups they match;
    the first is theirs."""
    grouping = groupings.get(db(), ident)
    after = int(flask.request.args["after"]) if is_whole(flask.request.args.get("after", "")) else 0
    found = groupings.divided(moment(), grouping.groups)
    ids = list(itertools.islice((n for n in found.several if n > after), PAGE + 1))
    matched: dict[int, list[str]] = {ident: [] for ident in ids}
    for group in grouping.groups:
        looked = look(moment(), d.parse({"lines": group["lines"]}, words()), STALE)
        for one in ids:
            if one in looked.sieve.members:
                matched[one].append(group["name"])
    rows = contacts_of(db(), ids[:PAGE])
    return flask.render_template(
        "segments/several.html",
        grouping=grouping,
        rows=rows,
        matched=matched,
        total=len(found.several),
        after=ids[PAGE - 1] if len(ids) > PAGE else None,
    )


@pages.get("/groupings/<int:ident>/groups/<key>")
@needs("author")
def group(ident: int, key: str) -> Answer:
    """A group on the segment's page; the key “new” adds one."""
    grouping = groupings.get(db(), ident)
    found = next(
        (p for p in grouping.groups if p["key"] == key), {"key": "", "name": "", "lines": []}
    )
    if key != "new" and not found["key"]:
        flask.abort(404)
    return flask.render_template(
        "segments/edit.html",
        segment=None,
        grouping=grouping,
        group=found,
        **looked_at({"format": 1, "lines": found["lines"]}),
    )


@pages.post("/groupings/<int:ident>/save")
@needs("author")
def save(ident: int) -> Answer:
    data = body()
    grouping = groupings.get(db(), ident)
    definition = data.get("definition") or {}
    if not isinstance(definition, dict):
        raise Invalid("The definition is not an object with a list of lines.", "definition")
    groupings.change(
        db(),
        actor(),
        now(),
        words(),
        grouping,
        {
            "do": "set",
            "key": data.get("group"),
            "name": data.get("name"),
            "version": data.get("version"),
            "lines": definition.get("lines"),
        },
    )
    notice("Saved.")
    return flask.jsonify(to=flask.url_for("groupings.show", ident=ident))


@pages.post("/groupings/<int:ident>/<any(up, down, remove, rename):verb>")
@needs("author")
def change(ident: int, verb: str) -> Answer:
    grouping = groupings.get(db(), ident)
    form = flask.request.form
    try:
        groupings.change(
            db(),
            actor(),
            now(),
            words(),
            grouping,
            {"do": verb, "key": form.get("key"), "name": form.get("name")},
        )
    except MeadowrunError as problem:
        return not_done(problem, "groupings.show", ident=ident)
    return done("groupings.show", ident=ident)


@pages.post("/groupings/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    grouping = groupings.get(db(), ident)
    try:
        groupings.delete(db(), actor(), now(), grouping)
    except MeadowrunError as problem:
        return not_done(problem, "groupings.show", ident=ident)
    return done("groupings.table", Wording("“%(name)s” was deleted.", name=grouping.name))
