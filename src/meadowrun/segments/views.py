"""The segment's page: lines that read as sentences, the sieve beside them, the margin, people."""

from typing import Any

import flask
from werkzeug.datastructures import MultiDict

from meadowrun.base import audit
from meadowrun.base.db import existing as found_row
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core import wording
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import edit as editing
from meadowrun.core.audience import english, typed
from meadowrun.core.language import Wording
from meadowrun.core.values import is_whole
from meadowrun.people import people_csv
from meadowrun.people.asked import moment, words
from meadowrun.people.models import PeopleList
from meadowrun.people.tagged import narrowed
from meadowrun.segments import actions, page, queries
from meadowrun.segments import words as opening
from meadowrun.segments.looking import NoEstimate
from meadowrun.segments.looking import look as look_at
from meadowrun.segments.models import Segment
from meadowrun.segments.sets import STALE
from meadowrun.shell.later import comes_later, is_behind, named
from meadowrun.shell.request import (
    Answer,
    actor,
    body,
    csv_file,
    database,
    db,
    done,
    needs,
    not_done,
    notice,
    now,
    today,
)
from meadowrun.tags.page import give_or_take

pages = flask.Blueprint("segments", __name__)
PEOPLE_SHOWN = 50
EMPTY: dict[str, Any] = {"format": 1, "lines": []}


@pages.get("/segments")
def table() -> Answer:
    rows = []
    segments, tagged = narrowed(queries.segments(db()))
    for segment in segments:
        try:
            said = english.read_aloud(d.parse(segment.definition, words()), words(), today())
        except d.DefinitionError as problem:
            said = f"Has an error: {problem}"
        rows.append((segment, said))
    return flask.render_template("segments/table.html", rows=rows, tagged=tagged)


@pages.get("/segments/new")
@comes_later("Counting who is in this segment", when=NoEstimate)
def new() -> Answer:
    """An empty segment; or one with a line about what the address asks for, as in `about=tag:3`."""
    about = flask.request.args.get("about")
    if about:
        try:
            begun = {"format": 1, "lines": [editing.new_line(about, words())]}
            return flask.render_template(
                "segments/edit.html",
                segment=None,
                grouping=None,
                **page.looked_at(begun, exact=is_behind()),
            )
        except d.DefinitionError as problem:
            notice(str(problem), "bad")
    return flask.render_template(
        "segments/edit.html",
        segment=None,
        grouping=None,
        **page.looked_at(EMPTY, exact=is_behind()),
    )


@pages.get("/segments/<int:ident>")
@comes_later("Counting who is in this segment", when=NoEstimate)
def edit(ident: int) -> Answer:
    segment = queries.segment(db(), ident)
    shown = page.looked_at(segment.definition, segment, exact=is_behind())
    looked = shown["looked"]
    if looked is not None and not looked.sample and segment.size != looked.sieve.size:
        segment.size, segment.sized_at = looked.sieve.size, now()
    return flask.render_template("segments/edit.html", segment=segment, grouping=None, **shown)


def _posted(data: dict[str, Any]) -> tuple[dict[str, Any], Segment | None]:
    """The definition that an editor posts, and the saved segment that it is of. Raises Invalid."""
    definition, number = data.get("definition") or EMPTY, data.get("segment") or None
    if not editing.is_tree(definition):
        raise Invalid("The definition is not an object with a list of lines.", "definition")
    if number is not None and (isinstance(number, bool) or not isinstance(number, int)):
        raise Invalid("“segment” is the number of a segment.", "segment")
    return definition, queries.segment(db(), number) if number is not None else None


@pages.post("/segments/look")
def look() -> Answer:
    """Applies a change to a posted definition and answers with the page's parts, worked out anew;
    `exact` is the name by which exact work is stopped."""
    data = body()
    definition, segment = _posted(data)
    touched = None
    try:
        change = data.get("change")
        if change is not None and not isinstance(change, dict):
            raise Invalid("A change is an object that says what to do.", "change")
        if change and change.get("do") == "answer":
            lines, index = editing.find(definition, str(change.get("id")))
            form = MultiDict(
                [
                    (str(pair[0]), str(pair[1]))
                    for pair in change.get("form") or []
                    if len(pair) == 2
                ]
            )
            change = {
                "do": "set",
                "id": change["id"],
                "patch": opening.patch(lines[index], str(change.get("slot")), form, words()),
            }
        if change:
            definition, touched = editing.apply(definition, change, words())
            d.parse(definition, words())
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    token = str(data.get("exact") or "")
    if token:
        named(db(), token)
    try:
        shown = page.looked_at(definition, segment, exact=bool(token))
    except NoEstimate:
        shown = page.looked_at(definition, segment, exact=True)
    return flask.jsonify(
        definition=definition,
        touched=touched,
        parts={
            "sieve": flask.render_template("segments/sieve.html", segment=segment, **shown),
            "margin": flask.render_template("segments/margin.html", segment=segment, **shown),
            "people": flask.render_template("segments/sample.html", segment=segment, **shown),
        },
    )


@pages.post("/segments/word")
def word() -> Answer:
    """The small form of one word of a posted definition; without a line, the picker for a new
    one."""
    data = body()
    slot = str(data.get("slot", ""))
    if slot == "new":
        return flask.jsonify(
            form=flask.render_template("segments/pick.html", picks=opening.picks(words()))
        )
    try:
        lines, index = editing.find(_posted(data)[0], str(data.get("id")))
        shown = opening.context(db(), lines[index], slot, words())
    except (d.DefinitionError, KeyError) as problem:
        raise Invalid(str(problem)) from None
    if shown["form"] == "about":
        return flask.jsonify(
            form=flask.render_template("segments/pick.html", picks=opening.picks(words()))
        )
    return flask.jsonify(form=flask.render_template("segments/word.html", **shown))


@pages.post("/segments/typed")
def typed_line() -> Answer:
    """The lines a typed sentence may mean, each with its English, the likeliest first."""
    found = []
    for reading in typed.read(str(body().get("text", ""))[:300], words(), today()):
        (node,) = d.parse({"lines": [editing.fresh(reading.line)]}, words()).lines
        found.append(
            {
                "line": reading.line,
                "said": reading.said,
                "meaning": english.meaning_today(node, words(), today()),
                "unused": list(reading.unused),
            }
        )
    return flask.jsonify(readings=found)


@pages.post("/segments/save")
@needs("author")
def save() -> Answer:
    data = body()
    definition, segment = _posted(data)
    try:
        parsed = d.parse(definition, words())
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    size = queries.count(moment(), parsed)
    saved = actions.save(
        db(),
        actor(),
        now(),
        words(),
        str(data.get("name", "")),
        definition,
        segment,
        data.get("version"),
        size,
    )
    notice(Wording("Saved: %(name)s, %(size)s now.", name=saved.name, size=wording.people(size)))
    return flask.jsonify(to=flask.url_for("segments.edit", ident=saved.id))


@pages.get("/segments/<int:ident>/people")
def people(ident: int) -> Answer:
    """Everyone in a saved segment, page by page."""
    segment = queries.segment(db(), ident)
    definition = actions.usable(segment, words())
    looked = look_at(moment(), definition, STALE)
    after = flask.request.args.get("after", "0")
    rows = queries.members(
        db(), looked.sieve.members, PEOPLE_SHOWN + 1, int(after) if is_whole(after) else 0
    )
    return flask.render_template(
        "segments/people.html",
        segment=segment,
        total=looked.sieve.size,
        rows=rows[:PEOPLE_SHOWN],
        after=rows[PEOPLE_SHOWN - 1].id if len(rows) > PEOPLE_SHOWN else None,
    )


@pages.get("/segments/<int:ident>/people.csv")
@needs("author")
def people_file(ident: int) -> Answer:
    """Everyone in a saved segment as a file that can be imported again."""
    segment = queries.segment(db(), ident)
    ids = list(queries.member_set(moment(), actions.usable(segment, words())))
    audit.record(
        db(), actor(), now(), "downloaded", "segment", segment.id, segment.name, people=len(ids)
    )
    return csv_file(people_csv.lines(database(), ids, words()), segment.name)


@pages.post("/segments/<int:ident>/freeze")
@needs("author")
def freeze(ident: int) -> Answer:
    """The people of this moment as a fixed list."""
    made = actions.freeze(moment(), actor(), queries.segment(db(), ident))
    return done("keeping.list_members", "The list will stay as it is.", ident=made.id)


@pages.post("/segments/<int:ident>/tag")
@needs("author")
def tag_people(ident: int) -> Answer:
    """Gives the people of this moment a tag, or takes it from them."""
    segment, form = queries.segment(db(), ident), flask.request.form
    ids = queries.member_set(moment(), actions.usable(segment, words()))
    try:
        return done("segments.edit", give_or_take(form, list(ids)), ident=ident)
    except MeadowrunError as problem:
        return not_done(problem, "segments.edit", ident=ident)


@pages.post("/lists/<int:ident>/again")
@needs("author")
def list_again(ident: int) -> Answer:
    """A list that was frozen from a segment, with the people who are in the segment now."""
    segment, size = actions.freeze_again(
        moment(), actor(), found_row(db(), PeopleList, ident, "list")
    )
    return done(
        "keeping.list_members",
        Wording("It holds everybody in “%(name)s” now.", name=segment.name),
        ident=ident,
    )


@pages.get("/segments/<int:ident>/history")
def history(ident: int) -> Answer:
    segment = queries.segment(db(), ident)
    rows = []
    for version in queries.versions(db(), ident):
        try:
            said = english.read_aloud(d.parse(version.definition, words()), words(), today())
        except d.DefinitionError as problem:
            said = str(problem)
        rows.append((version, said))
    return flask.render_template("segments/history.html", segment=segment, rows=rows)


@pages.post("/segments/<int:ident>/restore/<int:version>")
@needs("author")
def restore(ident: int, version: int) -> Answer:
    actions.restore(db(), actor(), now(), words(), queries.segment(db(), ident), version)
    return done(
        "segments.edit",
        Wording(
            "Version %(version)s is the newest again; the previous one stays in the history.",
            version=version,
        ),
        ident=ident,
    )


@pages.post("/segments/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    segment = queries.segment(db(), ident)
    try:
        actions.delete(db(), actor(), now(), segment, page.users(ident))
    except MeadowrunError as problem:
        return not_done(problem, "segments.edit", ident=ident)
    return done("segments.table", Wording("“%(name)s” was deleted.", name=segment.name))
