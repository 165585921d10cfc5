"""What all changes of an itinerary by its page share: who is meant, the hours that are typed, the
change itself, and the page where it is refused."""

from collections.abc import Callable

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.journeys import typed
from meadowrun.core.journeys.reading import ItineraryError
from meadowrun.core.journeys.steps import (
    Itinerary,
    Who,
)
from meadowrun.core.journeys.words import who_words
from meadowrun.core.language import Wording
from meadowrun.journeys import actions, queries
from meadowrun.journeys.models import Journey
from meadowrun.journeys.show_page import drawn
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    notice,
    now,
)


def say_unused(unused: tuple[str, ...]) -> None:
    """Says of which typed words nothing was made."""
    if unused:
        words = ", ".join(f"“{word}”" for word in unused)
        notice(Wording("Not understood: %(words)s.", words=words), "bad")


def who_in_form(before: Who) -> Who:
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
                "“%(text)s” was not understood. Write it like “language is English” or “bought a "
                "ticket in the last 30 days”, or choose a segment.",
                text=text,
            )
        )
    who, unused = found[0]
    say_unused(unused)
    return who


def minutes(clock: str) -> int | None:
    """Minutes after midnight of a time of day; None for an empty field. Raises ItineraryError."""
    if not clock:
        return None
    hour, _, minute = clock.partition(":")
    if not (hour.isdecimal() and minute.isdecimal() and int(hour) < 24 and int(minute) < 60):
        raise ItineraryError(
            Wording("“%(clock)s” is not a time. Write it like 09:30.", clock=clock)
        )
    return int(hour) * 60 + int(minute)


def version() -> int:
    """The version of the journey that a form is based on."""
    return integer(flask.request.form.get("version"), "version")


def write(
    journey: Journey,
    did: str,
    change: Callable[[Itinerary], Itinerary],
    line_id: str,
    anchor: str = "",
) -> Answer:
    """Makes a change of the draft and shows it, with the line that was changed lit, or at another
    place of the page."""
    try:
        actions.write(db(), actor(), now(), journey, version(), did, change)
    except (MeadowrunError, ItineraryError) as problem:
        return refused(journey, problem)
    return shown(journey, anchor or (f"line-{line_id}" if line_id else "add"))


#: Header of a request for what takes the place of the itinerary, without the page around it; and
#: of its answer, the element that was changed.
IN_PLACE, CHANGED = "X-In-Place", "X-Changed"


def shown(journey: Journey, anchor: str = "") -> Answer:
    """After a change: the itinerary as it is now, in its place where the page asked so."""
    if IN_PLACE not in flask.request.headers:
        return done("journeys.show", ident=journey.id, edit=1, _anchor=anchor or None)
    return again(journey), 200, {CHANGED: anchor}


def refused(journey: Journey, problem: Exception) -> Answer:
    """The itinerary with why a change was refused, and what was typed."""
    ident = journey.id
    db().rollback()
    status = problem.status if isinstance(problem, MeadowrunError) else Invalid.status
    text = flask.request.form.get("text", "")
    return again(queries.journey(db(), ident), text, problem), status, {CHANGED: ""}


def not_understood(journey: Journey, text: str, problem: str, where: str, form: str) -> Answer:
    """The itinerary with what was typed and not understood, where it was typed; `form` is the
    element that it was typed into."""
    return again(journey, text, problem, where), Invalid.status, {CHANGED: form}


def again(
    journey: Journey, text: str = "", problem: Exception | str | None = None, where: str = ""
) -> str:
    """The itinerary drawn anew: with its page, or only what takes its place."""
    in_place = IN_PLACE in flask.request.headers
    page = "journeys/in_place.html" if in_place else "journeys/show.html"
    return drawn(journey, text, problem, where, page_of=page)
