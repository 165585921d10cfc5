"""Changes of an itinerary: steps typed, changed in place, moved, nested, taken away, undone."""

from collections.abc import Callable

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.reading import ItineraryError
from meadowrun.core.journeys.steps import (
    AGAIN,
    REACTIONS,
    REFUSED,
    Goal,
    Itinerary,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    Step,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.journeys.words import Names, line, path_line
from meadowrun.core.language import Wording
from meadowrun.journeys import actions, queries
from meadowrun.journeys.models import Journey
from meadowrun.journeys.views import drawn
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, notice, now

pages = flask.Blueprint("itinerary", __name__, url_prefix="/journeys/<int:ident>")


@pages.post("/add")
@needs("author")
def add(ident: int) -> Answer:
    """Adds a step as it was typed; words that nothing was made of are said."""
    journey, form = queries.journey(db(), ident), flask.request.form
    text, path = form.get("text", "").strip(), form.get("path", "")
    readings = typed.read(text, queries.names(db()))
    place = integer(form.get("reading") or "0", "reading")
    if not text or place >= len(readings):
        problem = Wording(
            "“%(text)s” is no step. Type it like: wait 3 days · email and the name of a message · "
            "if in and a segment · wait for visited, 3 days · split 50 50 · exit",
            text=text,
        )
        return drawn(journey, text, problem, path), 422
    reading = readings[place]
    if reading.unused:
        words = ", ".join(f"“{word}”" for word in reading.unused)
        notice(Wording("Nothing was made of %(words)s.", words=words), "bad")
    return _write(
        journey,
        Wording("added a step"),
        lambda itinerary: edit.add(itinerary, reading.step, path),
        path,
    )


@pages.get("/readings")
@needs("author")
def readings(ident: int) -> Answer:
    """What would be made of a step as it is typed, drawn."""
    queries.journey(db(), ident)
    names = queries.names(db())
    found = typed.read(flask.request.args.get("text", ""), names)[:6]
    return flask.render_template(
        "journeys/readings.html",
        readings=[(_said(one.step, names), one.unused) for one in found],
    )


def _said(step: Step, names: Names) -> str:
    """A step that was read, in words, with its paths."""
    words = line(step, names)
    said = f"{words.kind}: {words.what}"
    if isinstance(step, WaitForStep):
        ways = [str(path_line(step, path, names).what) for path in step.paths[:-1]]
        said = f"{words.kind} {words.when}: {', '.join(ways)}"
    elif isinstance(step, Parting):
        ways = [str(path_line(step, path, names).what) for path in step.paths]
        said = f"{words.kind}: {' / '.join(ways)}"
    return said


#: What can be done with a line → what was done, in words, and the change.
_DEEDS: dict[str, tuple[str, Callable[[Itinerary, str], Itinerary]]] = {
    "up": (Wording("moved a step"), lambda itinerary, step: edit.move(itinerary, step, -1)),
    "down": (Wording("moved a step"), lambda itinerary, step: edit.move(itinerary, step, 1)),
    "nest": (Wording("moved a step into a path"), edit.nest),
    "remove": (Wording("took a step away"), edit.remove),
    "remove-path": (Wording("took a path away"), edit.remove_path),
    "add-path": (
        Wording("added a path"),
        lambda itinerary, step: edit.add_path(itinerary, step, Path("")),
    ),
}


@pages.post("/do")
@needs("author")
def do(ident: int) -> Answer:
    """Does one thing with one line, or goes back or forward by one change."""
    journey, form = queries.journey(db(), ident), flask.request.form
    what, step = form.get("do", ""), form.get("step", "")
    if what in ("undo", "redo"):
        try:
            by = -1 if what == "undo" else 1
            actions.undo(db(), now(), journey, _version(), by)
        except MeadowrunError as problem:
            return _refused(journey, problem)
        return done("journeys.show", ident=ident, edit=1)
    if what not in _DEEDS:
        flask.abort(404)
    said, change = _DEEDS[what]
    return _write(journey, said, lambda itinerary: change(itinerary, step), step)


@pages.post("/set")
@needs("author")
def set_line(ident: int) -> Answer:
    """Changes what one line says."""
    journey, step = queries.journey(db(), ident), flask.request.form.get("step", "")
    return _write(
        journey,
        Wording("changed a step"),
        lambda itinerary: _changed(itinerary, step),
        step,
    )


def _changed(itinerary: Itinerary, ident: str) -> Itinerary:
    """An itinerary with one line as the form says it."""
    form = flask.request.form
    step = itinerary.step(ident)
    if isinstance(step, MessageStep):
        return edit.set_values(
            itinerary,
            ident,
            message=integer(form.get("message"), "message"),
            refused=form.get("refused") if form.get("refused") in REFUSED else step.refused,
            hold=integer(form.get("hold") or str(step.hold), "hold"),
        )
    if isinstance(step, WaitStep):
        clock = form.get("at", "").strip()
        return edit.set_values(itinerary, ident, span=_span(), at=_minutes(clock))
    if isinstance(step, WaitForStep):
        return edit.set_values(itinerary, ident, span=_span())
    for parting, _, _ in itinerary.walk():
        if isinstance(parting, Parting) and any(path.id == ident for path in parting.paths):
            return _path(itinerary, parting, ident)
    raise ItineraryError(Wording("This line is not there any more."))


def _path(itinerary: Itinerary, step: Parting, ident: str) -> Itinerary:
    form = flask.request.form
    if isinstance(step, SplitStep):
        wanted = integer(form.get("percent"), "percent")
        others = [path for path in step.paths if path.id != ident]
        rest = 100 - wanted
        each, more = divmod(rest, len(others))
        if not 1 <= wanted <= 99 or each < 1:
            raise ItineraryError(Wording("Give each path at least 1%%."))
        paths = iter(each + (place < more) for place in range(len(others)))
        shares = {path.id: wanted if path.id == ident else next(paths) for path in step.paths}
        return edit.set_shares(itinerary, step.id, shares)
    if isinstance(step, WaitForStep):
        what = form.get("what", "")
        if what in REACTIONS:
            return edit.set_values(itinerary, ident, event="", reaction=what)
        return edit.set_values(itinerary, ident, event=what, reaction="")
    return edit.set_values(itinerary, ident, segment=integer(form.get("segment"), "segment"))


def _span() -> Span:
    form = flask.request.form
    return Span(integer(form.get("amount"), "amount"), form.get("unit", "day"))


def _minutes(clock: str) -> int | None:
    """Minutes after midnight of a time of day; None for an empty field. Raises ItineraryError."""
    if not clock:
        return None
    hour, _, minute = clock.partition(":")
    if not (hour.isdecimal() and minute.isdecimal() and int(hour) < 24 and int(minute) < 60):
        raise ItineraryError(Wording("“%(clock)s” is no time. Write it like 09:30.", clock=clock))
    return int(hour) * 60 + int(minute)


@pages.post("/starts")
@needs("author")
def starts(ident: int) -> Answer:
    """Sets what brings people in, and how often one person can be in it."""
    journey, form = queries.journey(db(), ident), flask.request.form

    def change(itinerary: Itinerary) -> Itinerary:
        what, _, which = form.get("start", "").partition(":")
        start = Start(segment=integer(which, "start")) if what == "segment" else Start(event=which)
        again = form.get("again", "once")
        days = integer(form.get("again_days") or "90", "again_days")
        return edit.checked(
            edit.with_start(itinerary, start, again if again in AGAIN else "once", days)
        )

    return _write(journey, Wording("changed what starts it"), change, "start")


@pages.post("/goal")
@needs("author")
def goal(ident: int) -> Answer:
    """Sets the goal, or takes it away."""
    journey, form = queries.journey(db(), ident), flask.request.form

    def change(itinerary: Itinerary) -> Itinerary:
        event = form.get("event", "")
        if not event:
            return edit.with_goal(itinerary, None)
        days = integer(form.get("days"), "days")
        return edit.checked(edit.with_goal(itinerary, Goal(event, days, bool(form.get("ends")))))

    return _write(journey, Wording("changed the goal"), change, "goal")


@pages.post("/sending")
@needs("author")
def sending(ident: int) -> Answer:
    """Sets from whom its messages are, and who may get them."""
    journey, form = queries.journey(db(), ident), flask.request.form
    try:
        actions.set_sending(
            db(),
            actor(),
            now(),
            journey,
            integer(form["sender"], "sender") if form.get("sender") else None,
            integer(form["topic"], "topic") if form.get("topic") else None,
            form.get("rule", ""),
            {name: form[name] for name in ("from", "to") if form.get(name)},
        )
    except MeadowrunError as problem:
        return _refused(journey, problem)
    return done("journeys.show", ident=ident, edit=1)


def _version() -> int:
    return integer(flask.request.form.get("version"), "version")


def _write(
    journey: Journey, did: str, change: Callable[[Itinerary], Itinerary], line_id: str
) -> Answer:
    """Makes a change of the draft and shows it, with the line that was changed lit."""
    try:
        actions.write(db(), actor(), now(), journey, _version(), did, change)
    except (MeadowrunError, ItineraryError) as problem:
        return _refused(journey, problem)
    anchor = f"line-{line_id}" if line_id else "add"
    return done("journeys.show", ident=journey.id, edit=1, _anchor=anchor)


def _refused(journey: Journey, problem: Exception) -> Answer:
    """The page with why a change was refused, and what was typed."""
    ident = journey.id
    db().rollback()
    status = problem.status if isinstance(problem, MeadowrunError) else Invalid.status
    text = flask.request.form.get("text", "")
    return drawn(queries.journey(db(), ident), text, problem), status
