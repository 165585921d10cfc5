"""Pages of journeys: all of them, and one with its map and itinerary."""

import functools
from collections.abc import Callable, Mapping

import flask

from meadowrun.base.db import existing
from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.base.kept import Kept
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience.fields import DetailSpec
from meadowrun.core.content.findings import MUST, Check
from meadowrun.core.guardrails.outcomes import rule_words
from meadowrun.core.guardrails.verdict import RULES
from meadowrun.core.journeys.beginnings import BEGINNINGS
from meadowrun.core.journeys.bpmn import to_bpmn
from meadowrun.core.journeys.concerned import Concern, concerned
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import Itinerary, Start, Who, lettered, numbered
from meadowrun.core.journeys.words import (
    WITHDREW,
    Names,
    again_words,
    as_text,
    door_words,
    exit_words,
    link_words,
    rhythm_words,
    start_words,
    task_words,
    tell_words,
    who_words,
)
from meadowrun.core.language import Wording
from meadowrun.core.tasks import KINDS, PRIORITIES
from meadowrun.core.timing.hours import DAY_NAMES
from meadowrun.core.wording import count_of, joined
from meadowrun.core.wording import people as people_words
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys import actions, checking, figures, page, queries
from meadowrun.journeys.calling import signing_key
from meadowrun.journeys.entering import REFUSALS
from meadowrun.journeys.map import alone, curve, draw
from meadowrun.journeys.membership import everybody, lately
from meadowrun.journeys.models import MOVES, STATES, Journey
from meadowrun.journeys.patterns import all_patterns
from meadowrun.journeys.reasons import ends
from meadowrun.journeys.testers import MOST_WAITS, testers
from meadowrun.messages.senders import senders
from meadowrun.people.kinds import event_kinds
from meadowrun.people.moment import Moment, at_present
from meadowrun.people.queries import topics
from meadowrun.shell.request import (
    Answer,
    actor,
    db,
    done,
    integer,
    needs,
    not_done,
    now,
    settings,
)

pages = flask.Blueprint("journeys", __name__)


@pages.get("/journeys")
def table() -> Answer:
    """All journeys, those that run first."""
    found = queries.all_journeys(db())
    stands = figures.stands(db(), [one.id for one in found])
    return flask.render_template(
        "journeys/table.html",
        rows=[(one, stands[one.id]) for one in found],
        campaigns=queries.campaign_names(db()),
        states=STATES,
        patterns=all_patterns(db()),
    )


@pages.post("/campaigns/<int:ident>/journeys")
@needs("author")
def add(ident: int) -> Answer:
    """Begins a journey of a campaign."""
    campaign, form = existing(db(), Campaign, ident, "campaign"), flask.request.form
    begins = BEGINNINGS.get(form.get("begin", ""))
    itinerary = begins.itinerary() if begins else None
    try:
        made = actions.create(db(), actor(), now(), campaign, form.get("name", ""), itinerary)
    except MeadowrunError as problem:
        return not_done(problem, "campaigns.show", ident=ident)
    return done("journeys.show", ident=made.id, _anchor="add")


@pages.get("/journeys/<int:ident>")
def show(ident: int) -> Answer:
    """One journey: as people walk it, or as it is being written."""
    return drawn(queries.journey(db(), ident), "", None)


@pages.get("/journeys/<int:ident>/live")
def live(ident: int) -> Answer:
    """What of the page changes while people walk it."""
    return drawn(queries.journey(db(), ident), "", None, page_of="journeys/live.html")


@pages.get("/journeys/<int:ident>/lines/<line>")
@needs("author")
def sheet(ident: int, line: str) -> Answer:
    """What a line of an itinerary is changed by."""
    journey = queries.journey(db(), ident)
    return drawn(journey, "", None, page_of="journeys/sheet.html", sheet_of=line)


#: Of an itinerary with more lines the forms are fetched one by one: all of them together take
#: longer than the page.
_MANY_LINES = 20
#: What of an address says how the map is looked at.
_LOOKS = ("step", "fold")


def drawn(
    journey: Journey,
    typed: str,
    problem: Exception | str | None,
    where: str = "",
    page_of: str = "journeys/show.html",
    sheet_of: str = "",
) -> str:
    """The page of a journey; `typed` is a step that was not understood, in the path `where`. With
    `sheet_of` only the form of one line is drawn."""
    draft, walked = queries.draft(db(), journey), queries.walked(db(), journey)
    # What was refused is shown where it was typed.
    writing = walked is None or "edit" in flask.request.values or problem is not None
    itinerary = draft if writing or walked is None else walked
    found = figures.numbers(db(), journey.id) if walked is not None else None
    every = queries.names(db())
    names = every.of(itinerary)
    checked = writing and not sheet_of
    links = queries.links_before(db(), itinerary.on()) if writing else {}
    findings = (
        checking.findings(db(), journey, itinerary, settings().inner, checking.Known(every, links))
        if checked
        else []
    )
    goals = figures.goal_reached(db(), journey.id, itinerary, now()) if found else {}
    chosen = flask.request.args.get("step", "")
    return flask.render_template(
        page_of,
        journey=journey,
        campaign=db().get_one(Campaign, journey.campaign_id),
        state=STATES[journey.state],
        writing=writing and journey.state != "ended",
        changed=walked is not None and draft != walked,
        itinerary=itinerary,
        called=numbered(itinerary) | lettered(itinerary),
        lanes=page.lanes(itinerary, names, found, findings, _seen_of(itinerary), goals),
        reached=goals.get(""),
        compared=figures.compared(db(), journey.id) if found and itinerary.goal else None,
        curve=curve(goals[""], itinerary.goal.days) if goals.get("") and itinerary.goal else "",
        river=draw(
            itinerary,
            names,
            found,
            chosen,
            page.folds(itinerary, "journeys.show", journey.id),
        ),
        sheet_of=sheet_of,
        sheets_later=sum(1 for _ in itinerary.walk()) > _MANY_LINES,
        looks={key: flask.request.args[key] for key in _LOOKS if key in flask.request.args},
        start_words=lambda one: start_words(one, names),
        rhythm_words=lambda one: rhythm_words(one) if one.rhythm else "",
        details=_details(itinerary, names),
        coming_now=_coming_now(itinerary, walked) if writing else {},
        nobody=Who(),
        amounts=_amounts(itinerary, names),
        withdrew=WITHDREW,
        exits=[(rule.id, exit_words(rule, names)) for rule in itinerary.exits],
        who_words=lambda who: who_words(who, names) if who.lines else "",
        day_names=DAY_NAMES,
        signing_key=signing_key(settings()).decode(),
        task_words=lambda step: task_words(step, names),
        tell_words=lambda step: tell_words(step, names),
        tasks=KINDS,
        priorities=PRIORITIES,
        of_line=_of_line(findings),
        stopped={one.line for one in findings if one.level == MUST},
        again=again_words(itinerary),
        door=door_words(itinerary.door, names),
        at_door=figures.at_door(db(), journey.id, now()) if itinerary.door.hourly else None,
        goal=_goal_words(itinerary, names.events),
        sent_by=_sent_by(journey),
        safety_words=_safety_words(journey),
        numbers=found,
        ends=ends(itinerary, names),
        refusals=REFUSALS,
        nobodys=journey in queries.nobodys(db()),
        testers=testers(db(), journey.id),
        most_waits=MOST_WAITS,
        findings=findings,
        stops=[one for one in findings if one.level == MUST],
        concerned=_concerned(walked, draft, found, names) if writing else [],
        names=names,
        kinds={kind.key for kind in event_kinds(db())},
        link_words=link_words,
        links=links,
        messages=sorted(names.messages.items(), key=lambda one: one[1][0].lower()),
        editors=_editors(itinerary),
        channels={key: one.kind.name for key, one in CHANNELS.items()},
        senders=senders(db()),
        topics=topics(db()),
        rules={rule: rule_words(rule, "email", bool(journey.topic_id)) for rule in RULES},
        can_undo=journey.draft > 1,
        can_redo=_has_draft(journey, 1),
        typed=typed,
        problem=problem,
        where=where,
        holds=page.holds,
        moves=journey.state in MOVES,
    )


def _concerned(
    walked: Itinerary | None, draft: Itinerary, found: figures.Numbers | None, names: Names
) -> list[Concern]:
    """Whom the draft concerns among those who are inside."""
    if walked is None or found is None:
        return []
    here = {step: one.people for step, one in found.here.items()}
    return concerned(walked, draft, here, names)


def _of_line(findings: list[Check]) -> dict[str, list[str]]:
    """What a check says, by the line that it is about."""
    found: dict[str, list[str]] = {}
    for one in findings:
        found.setdefault(one.line, []).append(one.text)
    return found


def _coming_now(itinerary: Itinerary, walked: Itinerary | None) -> dict[str, str]:
    """How many people come in by a start as soon as it is started, in words, by its id; of those
    that have brought in theirs already none."""
    moment = at_present(db(), settings().timezone)
    found: dict[str, str] = {}
    for start in queries.beginning(itinerary, walked):
        try:
            count, _ = _counts.get(
                db(), repr(start), moment.now, functools.partial(_count_now, moment, start)
            )
        except Invalid:
            continue
        found[start.id] = people_words(count)
    return found


#: How many come in by a start at once: dear where much happened.
_counts: Kept[int] = Kept(60.0)


def _count_now(moment: Moment, start: Start) -> int:
    """How many a start brings in at once. Raises Invalid."""
    return len(lately(moment, start) if start.back else everybody(moment, start.who))


def _details(itinerary: Itinerary, names: Names) -> list[DetailSpec]:
    """What the events say that start it, each once."""
    kinds = [names.words.event(key) for key in sorted(itinerary.starting_events())]
    said = {one.key: one for kind in kinds if kind for one in kind.details}
    return list(said.values())


def _amounts(itinerary: Itinerary, names: Names) -> list[DetailSpec]:
    """The numbers that the event of the goal says."""
    event = names.words.event(itinerary.goal.event) if itinerary.goal else None
    return [one for one in event.details if one.type == "number"] if event else []


def _editors(itinerary: Itinerary) -> dict[int, str]:
    """Where each message of an itinerary is written."""
    used = itinerary.messages()
    return {
        ident: flask.url_for(CHANNELS[channel].editor, ident=ident)
        for ident, channel in queries.channels_of(db(), used).items()
    }


def _sent_by(journey: Journey) -> str:
    """From whom the messages of a journey are, about what, and to whom they may go."""
    sender = next((one.name for one in senders(db()) if one.id == journey.sender_id), None)
    topic = next((one.name for one in topics(db()) if one.id == journey.topic_id), None)
    from_whom = Wording("from %(sender)s", sender=sender) if sender else Wording("from nobody yet")
    about = Wording(", about “%(topic)s”", topic=topic) if topic else ""
    rule = rule_words(journey.consent_rule, "email", bool(topic))
    hours = journey.hours
    when = (
        Wording(", from %(begins)s to %(ends)s", begins=hours["from"], ends=hours["to"])
        if hours
        else ""
    )
    return f"{from_whom}{about}, " + Wording("to %(rule)s", rule=rule) + when


def _safety_words(journey: Journey) -> str:
    """When a journey pauses itself."""
    found = []
    if journey.most_bounces is not None:
        found.append(Wording("over %(n)s%% bounce", n=f"{journey.most_bounces:g}"))
    if journey.most_complaints is not None:
        found.append(Wording("over %(n)s%% complain", n=f"{journey.most_complaints:g}"))
    if journey.most_unfilled is not None:
        share = f"{journey.most_unfilled:g}"
        found.append(Wording("over %(n)s%% cannot be filled in", n=share))
    if journey.most_an_hour is not None:
        people = people_words(journey.most_an_hour)
        found.append(Wording("over %(people)s come in within an hour", people=people))
    return Wording("when %(cases)s", cases=joined(found)) if found else Wording("never")


def _seen_of(itinerary: Itinerary) -> page.SeenOf:
    """What can be seen first of reactions to each message of an itinerary, by its channel."""
    channels = queries.channels_of(db(), itinerary.messages())

    def seen(message: int) -> tuple[str, str] | None:
        steps = CHANNELS[channels[message]].steps if message in channels else {}
        kinds = [kind for kind in ("opened", "clicked") if kind in steps]
        return (kinds[0], str(steps[kinds[0]])) if kinds else None

    return seen


def _goal_words(itinerary: Itinerary, events: Mapping[str, str]) -> str:
    goal = itinerary.goal
    if goal is None:
        return ""
    did = events.get(goal.event, goal.event)
    days = count_of(goal.days, "day")
    said = Wording("%(did)s within %(days)s", did=did, days=days)
    if not goal.control:
        return said
    return Wording("%(said)s, with %(n)s%% as the control group", said=said, n=goal.control)


def _has_draft(journey: Journey, by: int) -> bool:
    return queries.has_draft(db(), journey.id, journey.draft + by)


@pages.get("/journeys/<int:ident>.txt")
def text(ident: int) -> Answer:
    """The itinerary as instructions in plain text."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    said = f"{journey.name}\n\n{as_text(itinerary, queries.names(db()))}\n"
    return flask.Response(said, mimetype="text/plain")


@pages.get("/journeys/<int:ident>.json")
def as_json(ident: int) -> Answer:
    """The itinerary as JSON."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    return flask.jsonify(name=journey.name, itinerary=to_json(itinerary))


@pages.get("/journeys/<int:ident>.bpmn")
def as_bpmn(ident: int) -> Answer:
    """The itinerary in process notation."""
    journey = queries.journey(db(), ident)
    itinerary = queries.walked(db(), journey) or queries.draft(db(), journey)
    said = to_bpmn(journey.name, itinerary, queries.names(db()))
    return flask.Response(
        said,
        mimetype="application/xml",
        headers={"Content-Disposition": f'attachment; filename="journey-{ident}.bpmn"'},
    )


@pages.get("/journeys/<int:ident>.svg")
def picture(ident: int) -> Answer:
    """The map as a picture."""
    journey = queries.journey(db(), ident)
    walked = queries.walked(db(), journey)
    itinerary = walked or queries.draft(db(), journey)
    found = figures.numbers(db(), ident) if walked else None
    drawn = str(draw(itinerary, queries.names(db()), found).map)
    return flask.Response(
        alone(drawn),
        mimetype="image/svg+xml",
        # It brings its font and its one rule along, and nothing else.
        headers={
            "Content-Security-Policy": "default-src 'none'; style-src 'unsafe-inline'; "
            "font-src data:"
        },
    )


#: What can be done with a journey as a whole: the deed, and what is said then.
_TURNS: dict[str, tuple[Callable[..., None], str]] = {
    "pause": (actions.pause, Wording("Paused: nobody moves on, and nothing is sent.")),
    "resume": (actions.resume, Wording("It goes on.")),
    "wind-down": (actions.wind_down, Wording("Nobody new comes in; who is inside goes on.")),
    "end": (actions.end, Wording("It has ended.")),
}


@pages.post("/journeys/<int:ident>/turn/<what>")
@needs("approver")
def turn(ident: int, what: str) -> Answer:
    """Pauses, resumes, winds down or ends it."""
    if what not in _TURNS:
        flask.abort(404)
    act, said = _TURNS[what]
    try:
        act(db(), actor(), now(), queries.journey(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/take-over")
@needs("approver")
def take_over(ident: int) -> Answer:
    """Makes whoever asks the one who looks after it."""
    try:
        actions.take_over(db(), actor(), now(), queries.journey(db(), ident))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", Wording("You look after it from now on."), ident=ident)


@pages.post("/journeys/<int:ident>/start")
@needs("approver")
def start(ident: int) -> Answer:
    """Starts it, or has people go on by the newest draft."""
    journey = queries.journey(db(), ident)
    version = integer(flask.request.form.get("version"), "version")
    first = journey.started_at is None
    to = {
        name.removeprefix("to-"): place
        for name, place in flask.request.form.items()
        if name.startswith("to-")
    }
    try:
        actions.start(db(), actor(), now(), journey, version, settings().inner, to)
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident, edit=1)
    said = (
        Wording("It runs.")
        if first
        else Wording(
            "Edition %(edition)s is live: people continue with it.", edition=journey.edition
        )
    )
    return done("journeys.show", said, ident=ident)


@pages.post("/journeys/<int:ident>/copy")
@needs("author")
def copy(ident: int) -> Answer:
    """Another journey with the same itinerary."""
    made = actions.copy(db(), actor(), now(), queries.journey(db(), ident))
    return done("journeys.show", Wording("A copy, which nothing has started."), ident=made.id)


@pages.post("/journeys/<int:ident>/rename")
@needs("author")
def rename(ident: int) -> Answer:
    """Gives it another name."""
    journey = queries.journey(db(), ident)
    try:
        actions.rename(db(), actor(), now(), journey, flask.request.form.get("name", ""))
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    return done("journeys.show", ident=ident)


@pages.post("/journeys/<int:ident>/delete")
@needs("author")
def delete(ident: int) -> Answer:
    """Deletes one that was never started."""
    journey = queries.journey(db(), ident)
    campaign, name = journey.campaign_id, journey.name
    try:
        actions.delete(db(), actor(), now(), journey)
    except MeadowrunError as problem:
        return not_done(problem, "journeys.show", ident=ident)
    said = Wording("“%(name)s” was deleted.", name=name)
    return done("campaigns.show", said, ident=campaign)
