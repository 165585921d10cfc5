"""The page of a journey: its map, its itinerary, what can be changed in it, and the numbers of
those who walk it."""

import dataclasses
import functools
from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.base.errors import Invalid
from meadowrun.base.kept import Kept
from meadowrun.campaigns.models import Campaign
from meadowrun.core.audience.fields import DetailSpec
from meadowrun.core.content.findings import MUST, Check
from meadowrun.core.guardrails.outcomes import rule_words
from meadowrun.core.guardrails.verdict import RULES
from meadowrun.core.journeys.concerned import Concern, concerned
from meadowrun.core.journeys.steps import Itinerary, Start, Who, lettered, numbered
from meadowrun.core.journeys.words import (
    WITHDREW,
    Names,
    again_words,
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
from meadowrun.journeys import checking, figures, page, queries
from meadowrun.journeys.calling import signing_key
from meadowrun.journeys.entering import REFUSALS
from meadowrun.journeys.map import curve, draw
from meadowrun.journeys.membership import everybody, lately
from meadowrun.journeys.models import MOVES, STATES, Journey
from meadowrun.journeys.reasons import ends
from meadowrun.journeys.testers import MOST_WAITS, testers
from meadowrun.messages.senders import senders
from meadowrun.people.kinds import event_kinds
from meadowrun.people.moment import Moment, at_present
from meadowrun.people.queries import topics
from meadowrun.shell.request import db, now, settings

#: Of an itinerary with more lines the forms are fetched one by one: all of them together take
#: longer than the page.
_MANY_LINES = 20
#: What of an address says how the map is looked at.
_LOOKS = ("step", "fold")


@dataclasses.dataclass(frozen=True)
class _Seen:
    """A journey as its page sees it: the draft and what people walk, which of the two is shown,
    whether it is being written, the names of what it uses, the numbers of those who walk it, and
    what a check says."""

    journey: Journey
    draft: Itinerary
    walked: Itinerary | None
    itinerary: Itinerary
    writing: bool
    names: Names
    found: figures.Numbers | None
    links: Mapping[str, Mapping[str, str]]
    findings: list[Check]


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
    # What was refused is shown where it was typed.
    asked = "edit" in flask.request.values or problem is not None
    seen = _seen(journey, asked, checked=not sheet_of)
    return flask.render_template(
        page_of,
        sheet_of=sheet_of,
        typed=typed,
        problem=problem,
        where=where,
        **_itself(seen),
        **_counted(seen),
        **_in_words(seen),
        **_checked(seen),
        **_choices(seen),
    )


def _seen(journey: Journey, asked: bool, checked: bool) -> _Seen:
    """The journey; `asked` to be written, or because nobody walks it yet, it is checked if it
    should be."""
    draft, walked = queries.draft(db(), journey), queries.walked(db(), journey)
    writing = walked is None or asked
    itinerary = draft if writing or walked is None else walked
    every = queries.names(db())
    links = queries.links_before(db(), itinerary.on()) if writing else {}
    findings = (
        checking.findings(db(), journey, itinerary, settings().inner, checking.Known(every, links))
        if writing and checked
        else []
    )
    return _Seen(
        journey,
        draft,
        walked,
        itinerary,
        writing,
        every.of(itinerary),
        figures.numbers(db(), journey.id) if walked is not None else None,
        links,
        findings,
    )


def _itself(seen: _Seen) -> dict[str, Any]:
    """The journey, how it stands, and what can be done with it."""
    journey, itinerary = seen.journey, seen.itinerary
    return {
        "journey": journey,
        "campaign": db().get_one(Campaign, journey.campaign_id),
        "state": STATES[journey.state],
        "moves": journey.state in MOVES,
        "writing": seen.writing and journey.state != "ended",
        "changed": seen.walked is not None and seen.draft != seen.walked,
        "can_undo": journey.draft > 1,
        "can_redo": _has_draft(journey, 1),
        "nobodys": journey in queries.nobodys(db()),
        "testers": testers(db(), journey.id),
        "most_waits": MOST_WAITS,
        "signing_key": signing_key(settings()).decode(),
        "itinerary": itinerary,
        "called": numbered(itinerary) | lettered(itinerary),
        "sheets_later": sum(1 for _ in itinerary.walk()) > _MANY_LINES,
        "looks": {key: flask.request.args[key] for key in _LOOKS if key in flask.request.args},
    }


def _counted(seen: _Seen) -> dict[str, Any]:
    """The lines and the map with the numbers of those who walk it."""
    journey, itinerary, found = seen.journey, seen.itinerary, seen.found
    goals = figures.goal_reached(db(), journey.id, itinerary, now()) if found else {}
    goal = itinerary.goal
    chosen = flask.request.args.get("step", "")
    folds = page.folds(itinerary, "journeys.show", journey.id)
    return {
        "numbers": found,
        "lanes": page.lanes(itinerary, seen.names, found, seen.findings, goals),
        "river": draw(itinerary, seen.names, found, chosen, folds),
        "reached": goals.get(""),
        "compared": figures.compared(db(), journey.id) if found and goal else None,
        "curve": curve(goals[""], goal.days) if goals.get("") and goal else "",
        "at_door": figures.at_door(db(), journey.id, now()) if itinerary.door.hourly else None,
        "ends": ends(itinerary, seen.names),
        "refusals": REFUSALS,
        "holds": page.holds,
    }


def _in_words(seen: _Seen) -> dict[str, Any]:
    """What its lines say, and what can be said of a start, a step or people."""
    itinerary, names = seen.itinerary, seen.names
    return {
        "again": again_words(itinerary),
        "door": door_words(itinerary.door, names),
        "exits": [(rule.id, exit_words(rule, names)) for rule in itinerary.exits],
        "goal": _goal_words(itinerary, names.events),
        "sent_by": _sent_by(seen.journey),
        "safety_words": _safety_words(seen.journey),
        "start_words": lambda one: start_words(one, names),
        "rhythm_words": lambda one: rhythm_words(one) if one.rhythm else "",
        "who_words": lambda who: who_words(who, names) if who.lines else "",
        "task_words": lambda step: task_words(step, names),
        "tell_words": lambda step: tell_words(step, names),
        "link_words": link_words,
        "withdrew": WITHDREW,
        "day_names": DAY_NAMES,
    }


def _checked(seen: _Seen) -> dict[str, Any]:
    """What a check says, whom the draft concerns, and who comes in at once."""
    stops = [one for one in seen.findings if one.level == MUST]
    writing = seen.writing
    return {
        "findings": seen.findings,
        "of_line": _of_line(seen.findings),
        "stops": stops,
        "stopped": {one.line for one in stops},
        "coming_now": _coming_now(seen.itinerary, seen.walked) if writing else {},
        "concerned": _concerned(seen.walked, seen.draft, seen.found, seen.names) if writing else [],
    }


def _choices(seen: _Seen) -> dict[str, Any]:
    """What can be chosen in the forms of its lines."""
    itinerary, names = seen.itinerary, seen.names
    about_topic = bool(seen.journey.topic_id)
    return {
        "names": names,
        "nobody": Who(),
        "links": seen.links,
        "details": _details(itinerary, names),
        "amounts": _amounts(itinerary, names),
        "kinds": {kind.key for kind in event_kinds(db())},
        "tasks": KINDS,
        "priorities": PRIORITIES,
        "messages": sorted(names.messages.items(), key=lambda one: one[1][0].lower()),
        "editors": _editors(itinerary),
        "channels": {key: one.kind.name for key, one in CHANNELS.items()},
        "senders": senders(db()),
        "topics": topics(db()),
        "rules": {rule: rule_words(rule, "email", about_topic) for rule in RULES},
    }


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
