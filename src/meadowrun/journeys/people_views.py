"""Pages of the people on a journey: who is where, one person's way, who is brought in, taken out,
or tries it."""

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.core.guardrails.outcomes import OUTCOMES, WORDS
from meadowrun.core.journeys.steps import Itinerary, Parting, numbered
from meadowrun.core.journeys.words import exit_words, line, path_line, start_words
from meadowrun.core.language import Wording
from meadowrun.journeys import actions, queries, testers
from meadowrun.journeys.models import JourneyEntry
from meadowrun.journeys.reasons import WHY, ends
from meadowrun.people.queries import contact as get_contact
from meadowrun.shell.request import Answer, actor, db, done, integer, needs, not_done, now

pages = flask.Blueprint("walkers", __name__)


@pages.get("/journeys/<int:ident>/people")
def people(ident: int) -> Answer:
    """Who is on a step now, or stands otherwise."""
    journey = queries.journey(db(), ident)
    step, state = flask.request.args.get("step"), flask.request.args.get("state", "inside")
    if state not in ("inside", "finished", "left"):
        flask.abort(404)
    entries = queries.people_on(db(), ident, step, state)
    contacts = queries.contacts_of(db(), entries)
    itinerary = queries.walked(db(), journey) or Itinerary()
    names = queries.names(db()).of(itinerary)
    said = {one.id: line(one, names) for one, _, _ in itinerary.walk()}
    return flask.render_template(
        "journeys/people.html",
        journey=journey,
        entries=entries,
        most=queries.MOST_SHOWN,
        contacts=contacts,
        said=said,
        numbered=numbered(itinerary),
        step=said.get(step or ""),
        state=state,
        ends=ends(itinerary, queries.names(db())),
    )


@pages.get("/journeys/<int:ident>/people/<int:contact>")
def person(ident: int, contact: int) -> Answer:
    """One person's way through a journey: each step, when, and why."""
    journey = queries.journey(db(), ident)
    who = get_contact(db(), contact)
    times = queries.entries(db(), ident, contact)
    wanted = integer(flask.request.args.get("time") or "0", "time")
    entry = next((one for one in times if one.id == wanted), times[0] if times else None)
    itinerary = queries.walked(db(), journey) or Itinerary()
    return flask.render_template(
        "journeys/person.html",
        journey=journey,
        contact=who,
        entry=entry,
        times=times,
        steps=_way(entry, itinerary),
        most_waits=testers.MOST_WAITS,
        why_not=None if entry else actions.why_not_in(db(), journey, who, now()),
    )


def _way(entry: JourneyEntry | None, itinerary: Itinerary) -> list[dict[str, object]]:
    """Each step of somebody's way in words, the first one first."""
    if entry is None:
        return []
    names, called = queries.names(db()).of(itinerary), numbered(itinerary)
    said = {one.id: line(one, names) for one, _, _ in itinerary.walk()}
    because = dict(WHY) | {
        path.id: path_line(step, path, names).what
        for step, _, _ in itinerary.walk()
        if isinstance(step, Parting)
        for path in step.paths
    }
    because |= {rule.id: exit_words(rule, names) for rule in itinerary.exits}
    began = {one.id: start_words(one, names) for one in itinerary.starts}
    because["start"] = began.get(entry.start, Wording("by a start that is gone"))
    found = []
    for move in queries.moves(db(), entry.id):
        words = said.get(move.to_step)
        reason = because.get(move.because)
        if reason is None and move.because in OUTCOMES:
            reason = Wording("not sent: %(why)s", why=WORDS[move.because])
        found.append(
            {
                "at": move.at,
                "because": reason or move.because,
                "number": called.get(move.to_step, ""),
                "words": words,
                "out": not move.to_step,
            }
        )
    return found


@pages.post("/journeys/<int:ident>/bring-in")
@needs("author")
def bring_in(ident: int) -> Answer:
    """Brings a contact in by hand, by their email address."""
    journey = queries.journey(db(), ident)
    address = flask.request.form.get("email", "").strip()
    found = queries.contact_at(db(), address)
    if found is None:
        problem = Invalid(Wording("Nobody has the address “%(address)s”.", address=address))
        return not_done(problem, "journeys.show", ident=ident)
    form = flask.request.form
    most_wait = integer(form["most_wait"], "most_wait") if form.get("most_wait") else None
    try:
        lane = form.get("lane", "")
        entered = actions.bring_in(db(), actor(), now(), journey, [found.id], lane, most_wait)
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    if not entered:
        why = actions.why_not_in(db(), journey, found, now())
        said = Wording("%(who)s did not come in: %(why)s.", who=address, why=why)
        return not_done(Invalid(said), "journeys.show", ident=ident)
    said = (
        Wording("%(who)s came in.", who=address)
        if most_wait is None
        else Wording("%(who)s came in as a tester and is counted nowhere.", who=address)
    )
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/testers/<int:contact>/remove")
@needs("author")
def remove_tester(ident: int, contact: int) -> Answer:
    """Has a tester be like everybody from their next time on."""
    journey = queries.journey(db(), ident)
    testers.remove(db(), actor(), now(), journey, contact)
    said = Wording("No longer a tester: from their next time on they count like everybody.")
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/people/<int:contact>/take-out")
@needs("author")
def take_out(ident: int, contact: int) -> Answer:
    """Takes a contact out by hand."""
    journey = queries.journey(db(), ident)
    try:
        actions.take_out(db(), actor(), now(), journey, contact)
    except MeadowrunError as problem:
        return not_done(problem, "walkers.person", ident=ident, contact=contact)
    said = Wording("Taken out. What was on its way to them is not sent.")
    return done("walkers.person", said, ident=ident, contact=contact)
