"""Pages that explain a segment: who was lost at a line, why somebody is in or out, what it shares,
whom it holds."""

import datetime as dt
import json
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.base.kept import Kept
from meadowrun.core.audience import carried, english
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.audience.sieve import before
from meadowrun.core.language import Wording
from meadowrun.core.values import read_json
from meadowrun.people.asked import moment, words
from meadowrun.people.queries import contact as get_contact
from meadowrun.segments import actions, queries
from meadowrun.segments import why as explaining
from meadowrun.segments.looking import look
from meadowrun.segments.models import Segment
from meadowrun.segments.profile import Profile
from meadowrun.segments.profile import profile as profile_of
from meadowrun.segments.sets import STALE
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, actor, body, db, done, needs, not_done, now, today

pages = flask.Blueprint("insight", __name__)
SHOWN = 12
_profiles: Kept[tuple[Profile, dt.datetime]] = Kept(seconds=120)


def usable(segment: Segment) -> Definition:
    """A saved segment's definition. Raises Conflict when it names what no longer exists."""
    return actions.usable(segment, words())


@pages.post("/segments/lost")
def lost() -> Answer:
    """Who was lost at one line of a posted definition, with what each had there."""
    data = body()
    try:
        definition = d.parse(data.get("definition") or {"lines": []}, words())
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    looked = look(moment(), definition, STALE)
    ident = str(data.get("line"))
    node = next((n for n in definition.lines if n.id == ident), None)
    if node is None:
        raise Invalid("That line is no longer there.", ident)
    was, kept = before(definition, ident, looked.sets, looked.everyone)
    gone = was - kept
    after = data.get("after") or 0
    if not isinstance(after, int):
        raise Invalid("“after” is the number of a contact.", "after")
    rows, some = [], queries.members(db(), gone, SHOWN, after)
    for contact in some:
        _, answers = explaining.why(moment(), Definition((node,)), contact.id)
        rows.append((contact, answers[0].value))
    # Numbers of contacts are small and rise; the rank of the last one shown says how many of the
    # lost stand above it.
    left = len(gone) - gone.rank(some[-1].id) if some else 0
    return flask.jsonify(
        form=flask.render_template(
            "segments/lost.html",
            rows=rows,
            count=len(gone),
            said=english.text(english.sentence(node, words(), today())),
            left=left,
            after=after,
            last=some[-1].id if some else 0,
            line=ident,
        )
    )


@pages.get("/segments/<int:ident>/why/<int:contact>")
def why(ident: int, contact: int) -> Answer:
    """Each line of a segment with what it sees of one contact, and its yes or no."""
    segment = queries.segment(db(), ident)
    inside, answers = explaining.why(moment(), usable(segment), contact)
    return flask.render_template(
        "segments/why.html",
        segment=segment,
        contact=get_contact(db(), contact),
        inside=inside,
        answers=answers,
        english=english,
        words=words(),
        today=today(),
    )


@pages.get("/people/<int:ident>/segments")
def of_contact(ident: int) -> Answer:
    """Every segment, with whether one contact is in it now."""
    contact = get_contact(db(), ident)
    person, judge = (
        explaining.person(db(), ident, words()),
        explaining.judge(moment()),
    )
    rows: list[tuple[Segment, bool | None]] = []
    for segment in queries.segments(db()):
        try:
            rows.append((segment, judge.matches(d.parse(segment.definition, words()), person)))
        except d.DefinitionError:
            rows.append((segment, None))
    return flask.render_template("segments/of_contact.html", contact=contact, rows=rows)


@pages.get("/segments/<int:ident>/profile")
@comes_later("Comparing these people with everyone")
def profile(ident: int) -> Answer:
    """What is more common and what is rarer in a segment than among everyone."""
    segment = queries.segment(db(), ident)
    members = look(moment(), usable(segment), STALE).sieve.members
    (found, as_of), _ = _profiles.get(
        db(),
        (ident, segment.version),
        now(),
        lambda: profile_of(moment(), members),
    )
    return flask.render_template(
        "segments/profile.html",
        segment=segment,
        profile=found,
        as_of=as_of,
        more=[t for t in found.traits if t.strength > 0][:14],
        less=[t for t in found.traits if t.strength < 0][:8],
    )


@pages.get("/segments/<int:ident>.json")
def export(ident: int) -> Answer:
    """The definition as a file, with its name and the names of whatever its lines name by
    number."""
    segment = queries.segment(db(), ident)
    text = json.dumps(
        {
            "name": segment.name,
            **segment.definition,
            "names": carried.names(segment.definition["lines"], words()),
        },
        ensure_ascii=False,
        indent=2,
    )
    return flask.Response(
        text,
        mimetype="application/json",
        headers={"Content-Disposition": f'attachment; filename="segment-{ident}.json"'},
    )


@pages.post("/segments/import")
@needs("author")
def take_in() -> Answer:
    """A definition from a file, as a new segment."""
    given = flask.request.files.get("file")
    try:
        data: Any = read_json(given.stream.read().decode("utf-8-sig")) if given else None
    except ValueError:
        data = None
    if not isinstance(data, dict) or not isinstance(data.get("lines"), list):
        return not_done(
            (
                "That file is not a segment: it should hold JSON with a list of lines, as "
                "“Download as a file” writes it."
            ),
            "segments.table",
        )
    try:
        name = str(data.get("name") or (given.filename if given else ""))
        known = data.get("names")
        lines = carried.at_home(data["lines"], known if isinstance(known, dict) else {}, words())
        made = actions.save(
            db(), actor(), now(), words(), name, {"format": data.get("format", 1), "lines": lines}
        )
    except (MeadowrunError, d.DefinitionError) as problem:
        return not_done(
            Wording("It was not imported: %(problem)s", problem=problem), "segments.table"
        )
    return done("segments.edit", Wording("“%(name)s” was imported.", name=made.name), ident=made.id)
