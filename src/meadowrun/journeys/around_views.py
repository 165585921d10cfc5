"""Changes of what stands around the steps of an itinerary: what brings people in and takes them
out, the goal, how its messages go, and when it pauses itself."""

import dataclasses
import datetime as dt
import functools

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.journeys import edit, typed
from meadowrun.core.journeys.reading import ItineraryError
from meadowrun.core.journeys.steps import (
    AGAIN,
    STARTS,
    Door,
    Goal,
    Itinerary,
    Start,
    Who,
)
from meadowrun.core.journeys.words import rhythm_words
from meadowrun.core.language import Wording
from meadowrun.core.timing import rhythm
from meadowrun.core.timing.rhythm import RhythmError
from meadowrun.journeys import actions, queries
from meadowrun.journeys.editing_page import (
    minutes,
    not_understood,
    refused,
    say_unused,
    shown,
    who_in_form,
    write,
)
from meadowrun.journeys.models import Journey
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    integer,
    needs,
    now,
)

pages = flask.Blueprint("around", __name__, url_prefix="/journeys/<int:ident>")


@pages.post("/starts")
@needs("author")
def starts(ident: int) -> Answer:
    """Adds something that brings people in, as it was typed or chosen, changes it, or takes it
    away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    if gone := form.get("remove", ""):
        said = Wording("removed a start")
        return write(journey, said, lambda before: edit.remove_start(before, gone), "start")
    if "text" in form:
        return _typed_start(journey, form.get("text", "").strip())
    which = form.get("start", "")

    def change(itinerary: Itinerary) -> Itinerary:
        before = next((one for one in itinerary.starts if one.id == which), None)
        start = dataclasses.replace(_start(before), lane=_lane())
        return (
            edit.set_start(itinerary, which, start) if which else edit.add_start(itinerary, start)
        )

    return write(journey, Wording("changed what starts it"), change, which or f"start{_lane()}")


def _lane() -> str:
    """The lane that a form is about; empty: the first one."""
    return flask.request.form.get("lane", "")[:100]


@pages.post("/lanes")
@needs("author")
def lanes(ident: int) -> Answer:
    """Adds a lane, gives one another name, or takes one away with its starts and steps."""
    journey, what = queries.journey(db(), ident), flask.request.form.get("do", "")
    name, lane = flask.request.form.get("name", ""), _lane()
    if what == "remove":
        said = Wording("removed a lane")
        return write(journey, said, lambda before: edit.remove_lane(before, lane), "lanes")
    if what == "name":
        said = Wording("named a lane")
        change = functools.partial(edit.name_lane, ident=lane, name=name)
        return write(journey, said, change, lane or "first-lane")
    said = Wording("added a lane")
    return write(journey, said, lambda before: edit.add_lane(before, name), "lanes")


def _typed_start(journey: Journey, text: str) -> Answer:
    """Adds what brings people in, as it was typed."""
    found = typed.read_start(text, queries.names(db()))
    if not found:
        problem = Wording(
            "“%(text)s” cannot start a journey. Write what they do, like “bought a "
            "ticket”, a date, like “7 days before renewal date”, what becomes true of them, like "
            "“becomes membership is student”, or days, like “every Monday, everyone in Members”.",
            text=text,
        )
        where = f"starts{_lane()}"
        return not_understood(journey, text, problem, where, where)
    start, unused = found[0]
    say_unused(unused)
    said, made = Wording("added a start"), dataclasses.replace(start, lane=_lane())
    return write(journey, said, lambda before: edit.add_start(before, made), f"start{made.lane}")


def _start(before: Start | None) -> Start:
    """What a form says of what brings people in; `before` is what it said. Raises
    ItineraryError."""
    form = flask.request.form
    how, _, which = form.get("what", "").partition(":")
    if how not in STARTS:
        raise ItineraryError(Wording("Choose what brings people in."), "what")
    who = who_in_form(before.who if before else Who())
    if how in ("everyone", "turns", "turns_not", "rhythm") and not who:
        raise ItineraryError(Wording("Say who they are: choose a segment, or write it."), "who")
    days = integer(form.get("days") or "0", "days")
    return Start(
        how,
        which if how == "event" else "",
        who,
        which if how == "date" else "",
        -days if form.get("side") == "after" else days,
        minutes(form.get("at", "").strip()) or 9 * 60,
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

    return write(journey, Wording("changed how often people come in"), change, "start")


@pages.post("/door")
@needs("author")
def door(ident: int) -> Answer:
    """Sets how many come in within an hour and are inside at once, and which journeys keep people
    out."""
    journey, form = queries.journey(db(), ident), flask.request.form

    def change(itinerary: Itinerary) -> Itinerary:
        made = Door(
            integer(form.get("hourly") or "0", "hourly"),
            integer(form.get("most_inside") or "0", "most_inside"),
            tuple(integer(one, "not_while") for one in form.getlist("not_while")),
        )
        return edit.with_door(itinerary, made)

    return write(journey, Wording("changed how many come in"), change, "door")


@pages.post("/exits")
@needs("author")
def exits(ident: int) -> Answer:
    """Adds something that takes people out at once, as it was typed, or takes one away."""
    journey, form = queries.journey(db(), ident), flask.request.form
    gone = form.get("remove", "")
    if gone == "withdrew":
        said = Wording("keeps people in who withdraw their consent")
        return write(journey, said, lambda before: edit.with_withdrawn(before, True), "exits")
    if gone:
        said = Wording("removed an exit rule")
        return write(journey, said, lambda before: edit.remove_exit(before, gone), "start")
    text = form.get("text", "").strip()
    if typed.says_withdrawn(text):
        said = Wording("takes people out who withdraw their consent")
        return write(journey, said, lambda before: edit.with_withdrawn(before, False), "exits")
    found = typed.read_exit_rule(text, queries.names(db()))
    if not found:
        problem = Wording(
            "“%(text)s” cannot take people out. Write what they do, like “bought a "
            "ticket”, or what becomes true of them, like “membership is student”.",
            text=text,
        )
        return not_understood(journey, text, problem, "exits", "exits")
    rule, unused = found[0]
    say_unused(unused)
    said = Wording("added an exit rule")
    return write(journey, said, lambda before: edit.add_exit(before, rule), "exits")


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
        made = Goal(event, days, bool(form.get("ends")), control, form.get("amount", ""))
        return edit.checked(edit.with_goal(itinerary, made))

    return write(journey, Wording("changed the goal"), change, "goal")


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
        return refused(journey, problem)
    return shown(journey)


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
            actions.Limits(
                _share("bounces"),
                _share("complaints"),
                _share("unfilled"),
                integer(flask.request.form["an_hour"], "an_hour")
                if flask.request.form.get("an_hour")
                else None,
            ),
        )
    except MeadowrunError as problem:
        return refused(journey, problem)
    return shown(journey)


def _share(field: str) -> float | None:
    """A share in percent of a form; None for an empty field. Raises Invalid."""
    text = flask.request.form.get(field, "").strip().replace(",", ".")
    if not text:
        return None
    try:
        return float(text)
    except ValueError:
        raise Invalid("Give a share in percent, like 0.5.", field) from None
