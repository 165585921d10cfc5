"""Changes of an itinerary: steps typed, changed in place, moved, nested, taken away, undone."""

import datetime as dt
from collections.abc import Callable
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.reading import ItineraryError
from meadowrun.core.journeys.steps import (
    AGAIN,
    PAST,
    REACTIONS,
    REFUSED,
    STARTS,
    ChangeStep,
    Goal,
    Itinerary,
    JumpStep,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.words import rhythm_words, step_words, who_words
from meadowrun.core.language import Wording
from meadowrun.core.timing import rhythm
from meadowrun.core.timing.rhythm import RhythmError
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys import actions, patterns, queries
from meadowrun.journeys.models import Journey
from meadowrun.journeys.patterns import JourneyPattern
from meadowrun.journeys.views import drawn
from meadowrun.messages.copying import begun
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    notice,
    now,
    settings,
)

pages = flask.Blueprint("itinerary", __name__, url_prefix="/journeys/<int:ident>")


@pages.post("/add")
@needs("author")
def add(ident: int) -> Answer:
    """Adds a step as it was typed; words that nothing was made of are said."""
    journey, form = queries.journey(db(), ident), flask.request.form
    text, path = form.get("text", "").strip(), form.get("path", "")
    readings = typed.read(text, queries.names(db()))
    kept = patterns.named(db(), text)
    which = form.get("pattern", "")
    if which or kept and not readings:
        return _add_pattern(journey, [one for one in kept if which in ("", str(one.id))], path)
    place = integer(form.get("reading") or "0", "reading")
    if not text or place >= len(readings):
        problem = Wording(
            "“%(text)s” is no step. Type it like: wait 3 days · email and the name of a message · "
            "if in and a segment · wait for visited, 3 days · split 50 50 · exit · or the name of "
            "a pattern",
            text=text,
        )
        return drawn(journey, text, problem, path), 422
    reading = readings[place]
    _say_unused(reading.unused)
    return _write(
        journey,
        Wording("added a step"),
        lambda itinerary: edit.add(itinerary, reading.step, path),
        path,
    )


def _add_pattern(journey: Journey, found: list[JourneyPattern], path: str) -> Answer:
    """Adds the steps of the first of some patterns."""
    if not found:
        return _refused(journey, Invalid("This pattern is not there any more."))
    steps = found[0].itinerary().steps
    said = Wording("added the pattern “%(name)s”", name=found[0].name)
    return _write(journey, said, lambda before: edit.add_all(before, steps, path), path)


def _say_unused(unused: tuple[str, ...]) -> None:
    """Says of which typed words nothing was made."""
    if unused:
        words = ", ".join(f"“{word}”" for word in unused)
        notice(Wording("Nothing was made of %(words)s.", words=words), "bad")


@pages.get("/readings")
@needs("author")
def readings(ident: int) -> Answer:
    """What would be made of a step as it is typed, drawn."""
    queries.journey(db(), ident)
    names = queries.names(db())
    text = flask.request.args.get("text", "")
    found = typed.read(text, names)[:6]
    return flask.render_template(
        "journeys/readings.html",
        readings=[(step_words(one.step, names), one.unused) for one in found],
        patterns=[(one, len(list(one.itinerary().walk()))) for one in patterns.named(db(), text)],
    )


#: What can be done with a line → what was done, in words, and the change.
_DEEDS: dict[str, tuple[str, Callable[[Itinerary, str], Itinerary]]] = {
    "up": (Wording("moved a step"), lambda itinerary, step: edit.move(itinerary, step, -1)),
    "down": (Wording("moved a step"), lambda itinerary, step: edit.move(itinerary, step, 1)),
    "nest": (Wording("moved a step into a path"), edit.nest),
    "copy": (Wording("copied a step"), edit.duplicate),
    "remove": (Wording("took a step away"), edit.remove),
    "off": (Wording("switched a step off or on"), edit.switch),
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


@pages.post("/message")
@needs("author")
def message(ident: int) -> Answer:
    """Begins the message of a step, and leads to where it is written."""
    journey, form = queries.journey(db(), ident), flask.request.form
    step, channel = form.get("step", ""), form.get("channel", "")
    if channel not in CHANNELS:
        return _refused(journey, Invalid("Choose a channel."))
    try:
        document = begun(db(), channel, settings())
        made = actions.write_message(
            db(), actor(), now(), journey, _version(), step, document, channel
        )
    except (MeadowrunError, ItineraryError) as problem:
        return _refused(journey, problem)
    return done(CHANNELS[channel].editor, ident=made.id)


@pages.post("/name")
@needs("author")
def name(ident: int) -> Answer:
    """Calls a step or a path something; an empty name takes its name away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    step, called = form.get("step", ""), " ".join(form.get("name", "").split())
    return _write(
        journey,
        Wording("named a step"),
        lambda itinerary: edit.set_values(itinerary, step, name=called),
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
            instead=tuple(integer(one, "instead") for one in form.getlist("instead") if one),
            refused=form.get("refused") if form.get("refused") in REFUSED else step.refused,
            hold=integer(form.get("hold") or str(step.hold), "hold"),
            begins=_minutes(form.get("begins", "").strip()),
            ends=_minutes(form.get("ends", "").strip()),
        )
    if isinstance(step, WaitStep):
        return edit.set_values(itinerary, ident, **_wait_values(step))
    if isinstance(step, WebhookStep):
        failed = form.get("failed") if form.get("failed") in REFUSED else step.failed
        return edit.set_values(
            itinerary, ident, address=form.get("address", "").strip(), failed=failed
        )
    if isinstance(step, TaskStep):
        return edit.set_values(
            itinerary,
            ident,
            what=form.get("what", step.what),
            subject=form.get("subject", ""),
            priority=form.get("priority", step.priority),
            due=_span(),
            to=tuple(integer(one, "to") for one in form.getlist("to")),
        )
    if isinstance(step, TellStep):
        to = tuple(integer(one, "to") for one in form.getlist("to"))
        return edit.set_values(itinerary, ident, text=form.get("words", ""), to=to)
    if isinstance(step, ChangeStep):
        return edit.set_values(itinerary, ident, **_change_values(step))
    if isinstance(step, JumpStep):
        journey = integer(form.get("journey"), "journey")
        return edit.set_values(itinerary, ident, journey=journey)
    if isinstance(step, WaitForStep):
        return edit.set_values(itinerary, ident, span=_span())
    for parting, _, _ in itinerary.walk():
        if isinstance(parting, Parting) and any(path.id == ident for path in parting.paths):
            return _path(itinerary, parting, ident)
    raise ItineraryError(Wording("This line is not there any more."))


def _change_values(step: ChangeStep) -> dict[str, Any]:
    """What a form says of a change."""
    form = flask.request.form
    if step.what == "field":
        return {"field": form.get("field") or step.field, "value": form.get("value", "").strip()}
    number = integer(form.get("number"), "number")
    found = {"number": number, "remove": form.get("remove") == "yes"}
    return found | ({"value": form.get("value", "").strip()} if step.what == "score" else {})


def _wait_values(step: WaitStep) -> dict[str, Any]:
    """What a form says of a wait."""
    form = flask.request.form
    values: dict[str, Any] = {"span": _span(), "at": _minutes(form.get("at", "").strip())}
    if not step.date:
        day = form.get("weekday", "")
        return values | {"weekday": integer(day, "weekday") if day else None}
    return values | {
        "date": form.get("date") or step.date,
        "before": form.get("side") == "before",
        "yearly": bool(form.get("yearly")),
        "past": form.get("past") if form.get("past") in PAST else step.past,
    }


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
        if what.startswith("link:"):
            link = what.removeprefix("link:")
            return edit.set_values(itinerary, ident, event="", reaction="clicked", link=link)
        if what in REACTIONS:
            return edit.set_values(itinerary, ident, event="", reaction=what, link="")
        return edit.set_values(itinerary, ident, event=what, reaction="", link="")
    detail = form.get("detail", "")
    return edit.set_values(
        itinerary,
        ident,
        who=_who(path_who(itinerary, ident)),
        detail=detail,
        compare=form.get("compare", "is") if detail else "",
        value=form.get("value", "").strip() if detail else "",
    )


def path_who(itinerary: Itinerary, ident: str) -> Who:
    """Who takes a path now."""
    return next(
        (
            path.who
            for step, _, _ in itinerary.walk()
            if isinstance(step, Parting)
            for path in step.paths
            if path.id == ident
        ),
        Who(),
    )


def _who(before: Who) -> Who:
    """Who is meant by a form: a saved segment, or people in words; words that were not changed mean
    who they meant before. Raises ItineraryError for words that are not understood."""
    form, names = flask.request.form, queries.names(db())
    text = form.get("who", "").strip()
    if not text:
        return Who(integer(form.get("segment") or "0", "segment"))
    if before.lines and text == who_words(before, names):
        return before
    found = typed.who_of(text, names)
    if not found:
        raise ItineraryError(
            Wording(
                "Nobody knows who “%(text)s” are. Write it like “town is Farrow” or “bought a "
                "ticket in the last 30 days”, or choose a segment.",
                text=text,
            )
        )
    who, unused = found[0]
    _say_unused(unused)
    return who


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
    """Adds something that brings people in, as it was typed or chosen, changes it, or takes it
    away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    if gone := form.get("remove", ""):
        said = Wording("took a start away")
        return _write(journey, said, lambda before: edit.remove_start(before, gone), "start")
    if "text" in form:
        return _typed_start(journey, form.get("text", "").strip())
    which = form.get("start", "")

    def change(itinerary: Itinerary) -> Itinerary:
        before = next((one for one in itinerary.starts if one.id == which), None)
        start = _start(before)
        return (
            edit.set_start(itinerary, which, start) if which else edit.add_start(itinerary, start)
        )

    return _write(journey, Wording("changed what starts it"), change, which or "start")


def _typed_start(journey: Journey, text: str) -> Answer:
    """Adds what brings people in, as it was typed."""
    found = typed.read_start(text, queries.names(db()))
    if not found:
        problem = Wording(
            "“%(text)s” is nothing that brings people in. Write what they do, like “bought a "
            "ticket”, a date, like “7 days before renewal date”, what becomes true of them, like "
            "“becomes membership is student”, or days, like “every Monday, everyone in Members”.",
            text=text,
        )
        return drawn(journey, text, problem, "starts"), 422
    start, unused = found[0]
    _say_unused(unused)
    said = Wording("added a start")
    return _write(journey, said, lambda before: edit.add_start(before, start), "start")


def _start(before: Start | None) -> Start:
    """What a form says of what brings people in; `before` is what it said. Raises
    ItineraryError."""
    form = flask.request.form
    how, _, which = form.get("what", "").partition(":")
    if how not in STARTS:
        raise ItineraryError(Wording("Choose what brings people in."), "what")
    who = _who(before.who if before else Who())
    if how in ("everyone", "turns", "turns_not", "rhythm") and not who:
        raise ItineraryError(Wording("Say who they are: choose a segment, or write it."), "who")
    days = integer(form.get("days") or "0", "days")
    return Start(
        how,
        which if how == "event" else "",
        who,
        which if how == "date" else "",
        -days if form.get("side") == "after" else days,
        _minutes(form.get("at", "").strip()) or 9 * 60,
        bool(form.get("yearly")),
        "",
        *(_rhythm(before) if how == "rhythm" else ("", "")),
        integer(form.get("back") or "0", "back") if how == "event" else 0,
    )


def _rhythm(before: Start | None) -> tuple[str, str]:
    """The rule of days that a form says, and from which day on; words that were not changed mean
    what they meant before. Raises ItineraryError."""
    form = flask.request.form
    try:
        first = dt.date.fromisoformat(form.get("first", ""))
    except ValueError:
        raise ItineraryError(Wording("Say from which day on."), "first") from None
    text = form.get("rhythm", "").strip()
    if before and before.rhythm and text == rhythm_words(before):
        return before.rhythm, first.isoformat()
    try:
        return rhythm.read(text, first).rule(), first.isoformat()
    except RhythmError as problem:
        raise ItineraryError(str(problem), "rhythm") from None


@pages.post("/again")
@needs("author")
def again(ident: int) -> Answer:
    """Sets how often one person can be in it, and whether several times at once."""
    journey, form = queries.journey(db(), ident), flask.request.form

    def change(itinerary: Itinerary) -> Itinerary:
        how = form.get("again", "once")
        days = integer(form.get("again_days") or "90", "again_days")
        subject = form.get("subject", "")[:100]
        return edit.with_again(itinerary, how if how in AGAIN else "once", days, subject)

    return _write(journey, Wording("changed how often people come in"), change, "start")


@pages.post("/exits")
@needs("author")
def exits(ident: int) -> Answer:
    """Adds something that takes people out at once, as it was typed, or takes one away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    gone = form.get("remove", "")
    if gone == "withdrew":
        said = Wording("has people stay who withdraw their consent")
        return _write(journey, said, lambda before: edit.with_withdrawn(before, True), "exits")
    if gone:
        said = Wording("took an exit rule away")
        return _write(journey, said, lambda before: edit.remove_exit(before, gone), "start")
    text = form.get("text", "").strip()
    if typed.says_withdrawn(text):
        said = Wording("has people leave who withdraw their consent")
        return _write(journey, said, lambda before: edit.with_withdrawn(before, False), "exits")
    found = typed.read_exit_rule(text, queries.names(db()))
    if not found:
        problem = Wording(
            "“%(text)s” is nothing that takes people out. Write what they do, like “bought a "
            "ticket”, or what becomes true of them, like “membership is student”.",
            text=text,
        )
        return drawn(journey, text, problem, "exits"), 422
    rule, unused = found[0]
    _say_unused(unused)
    said = Wording("added an exit rule")
    return _write(journey, said, lambda before: edit.add_exit(before, rule), "exits")


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
        control = integer(form.get("control") or "0", "control")
        made = Goal(event, days, bool(form.get("ends")), control)
        return edit.checked(edit.with_goal(itinerary, made))

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


@pages.post("/safety")
@needs("author")
def safety(ident: int) -> Answer:
    """Sets when it pauses itself."""
    journey = queries.journey(db(), ident)
    try:
        actions.set_safety(
            db(),
            actor(),
            now(),
            journey,
            _share("bounces"),
            _share("complaints"),
            integer(flask.request.form["an_hour"], "an_hour")
            if flask.request.form.get("an_hour")
            else None,
        )
    except MeadowrunError as problem:
        return _refused(journey, problem)
    return done("journeys.show", ident=ident, edit=1)


def _share(field: str) -> float | None:
    """A share in percent of a form; None for an empty field. Raises Invalid."""
    text = flask.request.form.get(field, "").strip().replace(",", ".")
    if not text:
        return None
    try:
        return float(text)
    except ValueError:
        raise Invalid("Give a share in percent, like 0.5.", field) from None


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
