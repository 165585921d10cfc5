"""What the page of a journey is drawn from: one row for each line of its itinerary; and what
journeys draw on the pages of others."""

import dataclasses
from collections.abc import Mapping
from typing import Any

import flask

from meadowrun.core.channels import CHANNELS as CHANNEL_NAMES
from meadowrun.core.content.findings import MUST, Check
from meadowrun.core.journeys.drawing import foldable, folded_at_first
from meadowrun.core.journeys.steps import (
    Itinerary,
    Lane,
    MessageStep,
    Parting,
    Path,
    SplitStep,
    Start,
    Step,
    WaitForStep,
    lettered,
    numbered,
)
from meadowrun.core.journeys.words import Line, Names, line, path_line
from meadowrun.core.language import Wording
from meadowrun.core.results.reached import Reached
from meadowrun.core.wording import joined, number, percent
from meadowrun.gateways.channels import CHANNELS
from meadowrun.journeys import figures, queries
from meadowrun.journeys.figures import NOBODY, Here, Numbers, Stand
from meadowrun.journeys.map import Folds
from meadowrun.journeys.models import STATES
from meadowrun.shell.request import db

#: Of fewer people no share is said.
_FEW = 10
NOTHING: Mapping[str, Reached] = {}


@dataclasses.dataclass(frozen=True, slots=True)
class Row:
    """One line: a step, or a path of one, with what it says and what became of it."""

    id: str
    number: str
    depth: int
    words: Line
    step: Step | None
    path: Path | None
    #: the step that a path belongs to
    of: Parting | None
    #: what became of it, in words, and how many people are on it now
    told: str
    here: int
    findings: tuple[str, ...]
    #: whether one of them keeps it from starting
    stops: bool = False
    #: this path can be taken away, or has something that can be chosen
    asks: bool = False
    adds: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Adding:
    """Where a step can be typed at the end of a path."""

    path: str
    depth: int
    adds: bool = True


@dataclasses.dataclass(frozen=True, slots=True)
class LaneRows:
    """One lane: its letter and its name, the lines of its steps, and what brings people into it."""

    id: str
    letter: str
    name: str
    starts: tuple[Start, ...]
    rows: list[Row | Adding]
    #: how everybody stands who ever came into it, and the share that reaches the goal
    stand: Stand | None
    goal: Reached | None
    findings: tuple[str, ...]


def lanes(
    itinerary: Itinerary,
    names: Names,
    numbers: Numbers | None,
    findings: list[Check],
    goals: Mapping[str, Reached] = NOTHING,
) -> list[LaneRows]:
    """Every lane of an itinerary with its lines, in order, and behind each path where a step can be
    added; `goals` says the share that reaches the goal by path and by lane."""
    letters, names = lettered(itinerary), names.of(itinerary)
    called = numbered(itinerary)
    return [
        LaneRows(
            lane.id,
            letters[lane.id],
            lane.name,
            itinerary.alone(lane).starts,
            _rows(lane, called, names, numbers, findings, goals),
            numbers.lanes.get(lane.id, NOBODY) if numbers else None,
            goals.get(figures.of_lane(lane.id)),
            tuple(one.text for one in findings if lane.id and one.line == lane.id),
        )
        for lane in itinerary.lanes
    ]


def _rows(
    lane: Lane,
    called: Mapping[str, str],
    names: Names,
    numbers: Numbers | None,
    findings: list[Check],
    goals: Mapping[str, Reached],
) -> list[Row | Adding]:
    """The lines of one lane."""
    wrong: dict[str, list[str]] = {}
    for one in findings:
        wrong.setdefault(one.line, []).append(one.text)
    stops = {one.line for one in findings if one.level == MUST}
    found: list[Row | Adding] = []

    def tell(steps: tuple[Step, ...], depth: int) -> None:
        for step in steps:
            here = numbers.here.get(step.id, Here()).people if numbers else 0
            found.append(
                Row(
                    step.id,
                    called[step.id],
                    depth,
                    line(step, names),
                    step,
                    None,
                    None,
                    _told(step, numbers),
                    here,
                    tuple(wrong.get(step.id, ())),
                    step.id in stops,
                )
            )
            if not isinstance(step, Parting):
                continue
            for path in step.paths:
                asks = isinstance(step, SplitStep) or path is not step.paths[-1]
                found.append(
                    Row(
                        path.id,
                        called[path.id],
                        depth + 1,
                        path_line(step, path, names),
                        None,
                        path,
                        step,
                        _took(step, path, numbers, goals.get(path.id)),
                        0,
                        tuple(wrong.get(path.id, ())),
                        path.id in stops,
                        asks,
                    )
                )
                tell(path.steps, depth + 2)
                found.append(Adding(path.id, depth + 2))

    tell(lane.steps, 0)
    return found


def _told(step: Step, numbers: Numbers | None) -> str:
    """What became of a step so far, in words; empty before it runs."""
    if numbers is None:
        return ""
    came = numbers.passed(step.id)
    if isinstance(step, MessageStep):
        return _sent(step, numbers, came)
    if step.id in numbers.tasks:
        given, done = numbers.tasks[step.id]
        return Wording("%(done)s of %(given)s done", done=number(done), given=number(given))
    return Wording("%(n)s came", n=number(came)) if came else ""


def _sent(step: MessageStep, numbers: Numbers, came: int) -> str:
    """How many of those who came were sent its message, on which channel where there are several,
    and what share of them first showed that they saw it."""
    by_channel = {key: did for key, did in numbers.did.get(step.id, {}).items() if did.sent}
    if not by_channel:
        return ""
    sent = number(numbers.sent(step.id))
    told = Wording("%(sent)s of %(came)s sent", sent=sent, came=number(came))
    if len(by_channel) > 1:
        each = [
            Wording("%(n)s by %(channel)s", n=number(did.sent), channel=CHANNEL_NAMES[key])
            for key, did in by_channel.items()
        ]
        return Wording("%(told)s: %(each)s", told=told, each=joined(each, "and"))
    [(channel, did)] = by_channel.items()
    if len(step.messages) > 1:
        told = Wording("%(told)s, all by %(channel)s", told=told, channel=CHANNEL_NAMES[channel])
    words = CHANNELS[channel].steps
    seen = next((kind for kind in ("opened", "clicked") if kind in words), "")
    if not seen:
        return told
    people = did.opened if seen == "opened" else did.clicked
    return Wording(
        "%(told)s, %(share)s %(seen)s",
        told=told,
        share=percent(100 * people / did.sent, 0),
        seen=str(words[seen]).lower(),
    )


def _took(step: Parting, path: Path, numbers: Numbers | None, goal: Reached | None) -> str:
    """How many took a path, what share of those who went on, and the share of them that reaches
    the goal, with between what it lies in 95 of 100 such cases."""
    if numbers is None:
        return ""
    everybody = sum(numbers.by(step.id, one.id) for one in step.paths)
    people = numbers.by(step.id, path.id)
    if not everybody:
        return ""
    told = Wording(
        "%(people)s · %(share)s", people=number(people), share=percent(100 * people / everybody, 0)
    )
    if goal is None or goal.people < _FEW:
        return told
    share = round(100 * goal.share)
    if goal.bounds is None:
        return Wording("%(told)s, goal %(share)s%%", told=told, share=share)
    low, high = (round(100 * one) for one in goal.bounds)
    return Wording(
        "%(told)s, goal %(share)s%% (%(low)s to %(high)s)",
        told=told,
        share=share,
        low=low,
        high=high,
    )


def holds(step: Step | None) -> bool:
    """Whether a step holds people for a time that can be changed."""
    return step is not None and (step.kind == "wait" or isinstance(step, WaitForStep))


def folds(itinerary: Itinerary, endpoint: str, ident: int) -> Folds:
    """What of the map is folded: what the address says (ids with points between), else what is of a
    map that is too large. Folding leads to the page of a journey with all else as it is."""
    asked = flask.request.args.get("fold")
    folded = folded_at_first(itinerary)
    if asked is not None:
        folded = frozenset(one.id for one in foldable(itinerary)) & frozenset(asked.split("."))

    def address(step: str) -> str:
        args: dict[str, Any] = flask.request.args.to_dict()
        args |= {"ident": ident, "fold": ".".join(sorted(folded ^ {step}))}
        return flask.url_for(endpoint, **args, _anchor=f"fold-{step}")

    return Folds(folded, address)


def drawn_of_campaign(ident: int) -> str:
    """The journeys of a campaign; nothing where there are none."""
    found = queries.of_campaign(db(), ident)
    if not found:
        return ""
    stands = figures.stands(db(), [one.id for one in found])
    return flask.render_template(
        "journeys/of_campaign.html",
        rows=[(one, stands[one.id]) for one in found],
        states=STATES,
    )


def drawn_of_contact(ident: int) -> str:
    """The journeys that a contact is or was on; nothing where there are none."""
    found = queries.entries_of(db(), ident)
    return flask.render_template("journeys/of_contact.html", rows=found) if found else ""
