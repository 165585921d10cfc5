"""The page of a rehearsal: what would become of everybody, before anyone is written to."""

import dataclasses
import datetime as dt
import urllib.parse
from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.base.errors import Invalid, MeadowrunError
from meadowrun.campaigns.models import Campaign
from meadowrun.core.guardrails.outcomes import WORDS, words_for
from meadowrun.core.journeys import typed
from meadowrun.core.journeys.drawing import Flow, Mark
from meadowrun.core.journeys.imagined import Passed, Range
from meadowrun.core.journeys.steps import Itinerary, Parting, Path, WaitForStep, Who, numbered
from meadowrun.core.journeys.words import Names, exit_words, line, path_line, start_words
from meadowrun.core.language import Wording
from meadowrun.core.wording import number
from meadowrun.journeys import page, queries
from meadowrun.journeys import rehearsal_findings as findings
from meadowrun.journeys.beside import Version, beside
from meadowrun.journeys.imagining import Asked, Rehearsed, imagine
from meadowrun.journeys.map import Folds, draw_flow, steps_inside
from meadowrun.journeys.reasons import ENDS, WHY
from meadowrun.journeys.rehearsal_chart import chart_of
from meadowrun.outgoing.pressure import MANY
from meadowrun.people.models import Contact
from meadowrun.people.moment import at_present
from meadowrun.shell.later import comes_later
from meadowrun.shell.request import Answer, db, integer, needs, settings

pages = flask.Blueprint("rehearsal", __name__, url_prefix="/journeys/<int:ident>/rehearsal")

#: How many days can be imagined.
DAYS = (7, 14, 28, 60, 90)
#: So many people can be followed at a glance.
_FOLLOWED = 8
#: So many reasons are said for which a message is not sent.
_REASONS = 2


@pages.get("")
@needs("author")
@comes_later("Rehearsing the journey")
def show(ident: int) -> Answer:
    """A rehearsal of the itinerary as it is written now."""
    journey = queries.journey(db(), ident)
    itinerary = queries.draft(db(), journey)
    names = queries.names(db()).of(itinerary)
    walked = queries.walked(db(), journey)
    problem: str | None = None
    rehearsed, pairs = None, []
    try:
        moment = at_present(db(), settings().timezone)
        rehearsed = imagine(moment, journey, itinerary, _asked(itinerary, names))
        if walked is not None and flask.request.args.get("beside"):
            other = imagine(moment, journey, walked, _asked(walked, names))
            pairs = beside(Version(itinerary, rehearsed), Version(walked, other), names)
    except MeadowrunError as said:
        problem = str(said)
    place = _follow()
    folds = page.folds(itinerary, "rehearsal.show", ident)
    return flask.render_template(
        "journeys/rehearsal.html",
        journey=journey,
        campaign=db().get_one(Campaign, journey.campaign_id),
        problem=problem,
        pairs=pairs,
        can_compare=walked is not None and walked != itinerary,
        given=flask.request.args,
        segments=sorted(names.segments.items(), key=lambda one: one[1].lower()),
        days=DAYS,
        itinerary=itinerary,
        starts=[(one.id, start_words(one, names)) for one in itinerary.starts],
        rows=[
            row
            for lane in page.lanes(itinerary, names, None, [])
            for row in lane.rows
            if isinstance(row, page.Row)
        ],
        **(_told(itinerary, names, rehearsed, place, folds) if rehearsed else {"done": None}),
    )


def _asked(itinerary: Itinerary, names: Names) -> Asked:
    """What the form asks for. Raises Invalid."""
    args = flask.request.args
    days = integer(args.get("days") or "28", "days")
    if days not in DAYS:
        raise Invalid("Choose for how many days.", "days")
    text = args.get("who", "").strip()
    chosen = args.get("segment", "")
    start = chosen if any(one.id == chosen for one in itinerary.starts) else ""
    who = Who() if start else Who(integer(chosen or "0", "segment"))
    if text:
        found = typed.who_of(text, names)
        if not found or found[0][1]:
            raise Invalid(
                Wording(
                    "“%(text)s” was not understood. Write it like “language is English”.", text=text
                ),
                "who",
            )
        who = found[0][0]
    shares = {}
    for step, _, _ in itinerary.walk():
        if isinstance(step, WaitForStep):
            for path in step.paths[:-1]:
                given = args.get(f"share-{path.id}", "").strip()
                if given:
                    share = integer(given, f"share-{path.id}")
                    if not 0 <= share <= 100:
                        raise Invalid("Give shares from 0 to 100 percent.", f"share-{path.id}")
                    shares[path.id] = share / 100
    return Asked(days, who, start, shares, follow=_follow(), answers=_answers(itinerary))


def _follow() -> int:
    """The place among the starts of whom the page follows; -1: nobody who was chosen."""
    return integer(flask.request.args.get("follow") or "-1", "follow")


#: What in the address of a rehearsal the author answers for whom they follow: with the id of the
#: step behind it, the path that is taken there.
_ANSWER = "answer-"


def _answers(itinerary: Itinerary) -> dict[str, str]:
    """Step → the path that the author has the followed person take."""
    found = {}
    for step, _, _ in itinerary.walk():
        path = flask.request.args.get(f"{_ANSWER}{step.id}", "")
        if isinstance(step, Parting) and path in {one.id for one in step.paths}:
            found[step.id] = path
    return found


def _told(
    itinerary: Itinerary, names: Names, rehearsed: Rehearsed, place: int, folds: Folds
) -> dict[str, Any]:
    """What the page is drawn from."""
    found = rehearsed.found
    called = numbered(itinerary)
    follow = place if place in found.ways else next(iter(_various(rehearsed)), None)
    return {
        "done": rehearsed,
        "found": found,
        "river": draw_flow(
            itinerary,
            names,
            _flow(rehearsed),
            lambda mark: _mark(rehearsed, mark),
            folds=folds,
        ),
        "span": span,
        "chart": chart_of(rehearsed, called, itinerary, names),
        "unused": [
            f"{called[path.id]} · {path_line(step, path, names).what}"
            for step, _, _ in itinerary.walk()
            if isinstance(step, Parting)
            for path in step.paths
            if path.id not in found.took or found.took[path.id].high == 0
        ],
        "piled": findings.piled(rehearsed, called, itinerary, names),
        "crowded": findings.crowded(rehearsed, MANY),
        "tasks": findings.tasks(rehearsed),
        "splits": findings.splits(rehearsed, called, itinerary, names),
        "worth_knowing": findings.WORTH_KNOWING,
        "left": {_why(because, itinerary, names): people for because, people in found.left.items()},
        "kept": {
            step: _kept_words(found.kept_back.get(step, {}), channel)
            for step, channel in rehearsed.channels.items()
        },
        "followed": _way(rehearsed, follow, itinerary, names) if follow is not None else [],
        "follow": follow,
        "as_drawn": _followed(follow) if follow is not None and _answers(itinerary) else "",
        "person": db().get(Contact, rehearsed.contacts[follow]) if follow is not None else None,
        "others": [
            (_followed(one), db().get(Contact, rehearsed.contacts[one]))
            for one in _various(rehearsed)
            if one != follow
        ],
        "goal_share": (found.goal.middle / found.entered.middle if found.entered.middle else None),
    }


def _followed(place: int) -> str:
    """The address of the same rehearsal, with somebody else to follow, for whom nobody answers."""
    args = {
        name: value for name, value in flask.request.args.items() if not name.startswith(_ANSWER)
    }
    return _address(args | {"follow": str(place)})


def _answering(place: int, step: str, path: str) -> str:
    """The address of the same rehearsal in which somebody takes a path of a step. What was answered
    for later steps stays: where they do not come there, it is not asked."""
    return _address(
        {**flask.request.args.to_dict(), "follow": str(place), f"{_ANSWER}{step}": path}
    )


def _address(args: Mapping[str, str]) -> str:
    return f"{flask.request.path}?{urllib.parse.urlencode(args)}"


def span(one: Range) -> str:
    """A range in words: “1,150 ± 20”; one that is certain as a number."""
    middle = round(one.middle)
    beside = round(max(one.high - one.middle, one.middle - one.low))
    if not beside:
        return number(middle)
    return Wording("%(middle)s ± %(beside)s", middle=number(middle), beside=number(beside))


def _flow(rehearsed: Rehearsed) -> Flow:
    found, none = rehearsed.found, Range(0, 0, 0)
    return Flow(
        lambda step: round(found.came.get(step, none).middle),
        lambda step, path: round(found.took.get(path, none).middle),
        lambda step: round(found.on.get(step, none).middle),
    )


def _mark(rehearsed: Rehearsed, mark: Mark) -> str:
    """What stands below a step on the map."""
    none = Range(0, 0, 0)
    if mark.inside:
        return steps_inside(mark)
    if mark.kind == "message":
        return Wording("%(n)s sent", n=span(rehearsed.found.sent.get(mark.id, none)))
    return Wording("%(n)s come", n=span(rehearsed.found.came.get(mark.id, none)))


def _kept_words(kept: Mapping[str, Range], channel: str) -> str:
    """To how many a message would not be sent, and mainly why."""
    total = round(sum(one.middle for one in kept.values()))
    if not total:
        return ""
    words = words_for(channel)
    most = sorted(kept, key=lambda why: -kept[why].middle)[:_REASONS]
    reasons = [str(words[why]).lower() for why in most if round(kept[why].middle)]
    return Wording("%(n)s not: %(why)s", n=number(total), why=", ".join(reasons))


def _various(rehearsed: Rehearsed) -> list[int]:
    """A few people whose ways differ."""
    seen: dict[tuple[str, ...], int] = {}
    for place, way in rehearsed.found.ways.items():
        seen.setdefault(tuple(one.because for one in way), place)
    return list(seen.values())[:_FOLLOWED]


@dataclasses.dataclass(frozen=True, slots=True)
class Told:
    """One moment of somebody's way in words."""

    at: dt.datetime
    why: str
    number: str
    then: str
    #: what else they could have done there: the address of the rehearsal with that answer, and
    #: the answer
    instead: tuple[tuple[str, str], ...] = ()
    #: whether the author answered for them
    answered: bool = False


def _way(rehearsed: Rehearsed, place: int, itinerary: Itinerary, names: Names) -> list[Told]:
    """The way of one person in words."""
    called = numbered(itinerary)
    said = {step.id: line(step, names) for step, _, _ in itinerary.walk()}

    def told(before: str, one: Passed) -> Told:
        words = said.get(one.step)
        return Told(
            rehearsed.clocks.moment(one.at),
            _why(one.because, itinerary, names, rehearsed.channels.get(before, "")),
            called.get(one.step, ""),
            f"{words.kind}: {words.what}" if words else "",
            tuple(
                (_answering(place, parting.id, path.id), _said(parting, path, names))
                for parting in partings
                if parting.id == before
                for path in parting.paths
                if path.id != one.because
            ),
            f"{_ANSWER}{before}" in flask.request.args,
        )

    partings = [step for step, _, _ in itinerary.walk() if isinstance(step, Parting)]
    way = rehearsed.found.ways[place]
    befores = ["", *(one.step for one in way)]
    return [told(before, one) for before, one in zip(befores, way, strict=False)]


def _said(parting: Parting, path: Path, names: Names) -> str:
    """What has to hold for a path, as a condition: “if they opened it”."""
    words = path_line(parting, path, names)
    return Wording("%(kind)s %(what)s", kind=words.kind, what=words.what)


def _why(because: str, itinerary: Itinerary, names: Names, channel: str = "") -> str:
    """A reason in words; of a message by those of its channel."""
    for step, _, _ in itinerary.walk():
        if isinstance(step, Parting):
            for path in step.paths:
                if path.id == because:
                    return _said(step, path, names)
    for rule in itinerary.exits:
        if rule.id == because:
            return exit_words(rule, names)
    known = WHY.get(because) or ENDS.get(because)
    if known:
        return known
    words = words_for(channel) if channel else WORDS
    return Wording("not sent: %(why)s", why=str(words.get(because, because)).lower())
