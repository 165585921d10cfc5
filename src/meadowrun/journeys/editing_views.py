"""Changes of an itinerary: steps typed, changed in place, moved, nested, taken away, undone."""

import functools
from collections.abc import Callable
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.reading import ItineraryError
from meadowrun.core.journeys.steps import (
    PAST,
    REACTIONS,
    REFUSED,
    ChangeStep,
    Itinerary,
    JumpStep,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.words import Names, step_words
from meadowrun.core.language import Wording
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys import actions, patterns, queries
from meadowrun.journeys.editing_page import (
    minutes,
    not_understood,
    refused,
    say_unused,
    shown,
    version,
    who_in_form,
    write,
)
from meadowrun.journeys.models import Journey
from meadowrun.journeys.patterns import JourneyPattern
from meadowrun.messages.copying import begun
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
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
    readings = typed.read(text, _names(journey))
    kept = patterns.named(db(), text)
    which = form.get("pattern", "")
    if which or kept and not readings:
        return _add_pattern(journey, [one for one in kept if which in ("", str(one.id))], path)
    place = integer(form.get("reading") or "0", "reading")
    if not text or place >= len(readings):
        problem = Wording(
            "“%(text)s” is not a step. Type it like: wait 3 days · email and the name of a message "
            "· if in and a segment · wait for visited, 3 days · split 50 50 · exit · or the name "
            "of a pattern",
            text=text,
        )
        return not_understood(journey, text, problem, path, f"add{path}")
    reading = readings[place]
    say_unused(reading.unused)
    return write(
        journey,
        Wording("added a step"),
        lambda itinerary: edit.add(itinerary, reading.step, path),
        path,
        f"add{path}",
    )


def _names(journey: Journey) -> Names:
    """What everything is called that a step of a journey can speak of."""
    return queries.names(db()).of(queries.draft(db(), journey))


def _add_pattern(journey: Journey, found: list[JourneyPattern], path: str) -> Answer:
    """Adds the steps of the first of some patterns."""
    if not found:
        return refused(journey, Invalid("This pattern is not there any more."))
    steps = found[0].itinerary().steps
    said = Wording("added the pattern “%(name)s”", name=found[0].name)
    add = functools.partial(edit.add_all, steps=steps, path=path)
    return write(journey, said, add, path, f"add{path}")


@pages.get("/readings")
@needs("author")
def readings(ident: int) -> Answer:
    """What would be made of a step as it is typed, drawn."""
    names = _names(queries.journey(db(), ident))
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
    "remove": (Wording("removed a step"), edit.remove),
    "off": (Wording("switched a step off or on"), edit.switch),
    "remove-path": (Wording("removed a path"), edit.remove_path),
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
            actions.undo(db(), now(), journey, version(), by)
        except MeadowrunError as problem:
            return refused(journey, problem)
        return shown(journey)
    if what not in _DEEDS:
        flask.abort(404)
    said, change = _DEEDS[what]
    return write(journey, said, lambda itinerary: change(itinerary, step), step)


@pages.post("/set")
@needs("author")
def set_line(ident: int) -> Answer:
    """Changes what one line says."""
    journey, step = queries.journey(db(), ident), flask.request.form.get("step", "")
    return write(
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
        return refused(journey, Invalid("Choose a channel."))
    try:
        document = begun(db(), channel, settings())
        made = actions.write_message(
            db(), actor(), now(), journey, version(), step, document, channel
        )
    except (MeadowrunError, ItineraryError) as problem:
        return refused(journey, problem)
    return done(CHANNELS[channel].editor, ident=made.id)


@pages.post("/name")
@needs("author")
def name(ident: int) -> Answer:
    """Calls a step or a path something; an empty name takes its name away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    step, called = form.get("step", ""), " ".join(form.get("name", "").split())
    return write(
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
            begins=minutes(form.get("begins", "").strip()),
            ends=minutes(form.get("ends", "").strip()),
            best=bool(form.get("best")),
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
        journey, _, lane = form.get("journey", "").partition(":")
        number = integer(journey, "journey")
        return edit.set_values(itinerary, ident, journey=number, lane=lane)
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
    values: dict[str, Any] = {"span": _span(), "at": minutes(form.get("at", "").strip())}
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
        who=who_in_form(path_who(itinerary, ident)),
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


def _span() -> Span:
    form = flask.request.form
    return Span(integer(form.get("amount"), "amount"), form.get("unit", "day"))
