"""What an itinerary lacks before it can start, each finding by the step it is about."""

import dataclasses
import datetime as dt
from collections.abc import Collection, Iterator

from meadowrun.core import values
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import FieldSpec
from meadowrun.core.content.findings import MUST, Check, must, should
from meadowrun.core.journeys.details import ANSWER, number_of
from meadowrun.core.journeys.steps import (
    TODAY,
    BranchStep,
    ChangeStep,
    ExitStep,
    GoalStep,
    Itinerary,
    JumpStep,
    Lane,
    MessageStep,
    Parting,
    Start,
    Step,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.journeys.words import Names
from meadowrun.core.language import Wording


def check(itinerary: Itinerary, names: Names, unsendable: Collection[int] = ()) -> list[Check]:
    """What must be fixed before it starts, and what should be; `unsendable` are messages that
    nobody approved yet."""
    itinerary = itinerary.on()
    found = list(_start(itinerary, names))
    for lane in itinerary.lanes:
        found += _of_lane(lane, itinerary, names, unsendable)
    found += _too_soon(itinerary)
    return found


def _of_lane(
    lane: Lane, itinerary: Itinerary, names: Names, unsendable: Collection[int]
) -> Iterator[Check]:
    """What is found of one lane, or of a journey that has only one."""
    alone = itinerary.alone(lane)
    if not lane.steps:
        yield must("There is no step yet. Type what happens first.", lane.id)
    if itinerary.beside and not alone.starts and not _jumped_into(itinerary, lane.id):
        yield must("Nothing starts this lane yet. Choose what does.", lane.id or "start")
    sent = False
    for step, _, _ in alone.walk():
        yield from _of_step(step, itinerary, names, unsendable)
        if isinstance(step, MessageStep):
            sent = True
        if isinstance(step, WaitForStep) and not sent:
            yield from [
                must("No message goes before this step: nobody can react to one.", step.id)
                for path in step.paths
                if path.reaction
            ][:1]
    yield from _goals(alone)
    yield from _of_details(alone, names)
    yield from _twice(lane.steps, names, frozenset())
    yield from _behind_exits(lane.steps)


def _jumped_into(itinerary: Itinerary, lane: str) -> bool:
    """Whether a step of the journey leads into a lane of it."""
    return any(
        isinstance(step, JumpStep) and not step.journey and step.lane == lane
        for step, _, _ in itinerary.walk()
    )


def _start(itinerary: Itinerary, names: Names) -> Iterator[Check]:
    if not itinerary.starts:
        yield must("Nothing starts this journey yet. Choose what does.", "start")
    for start in itinerary.starts:
        if start.event and start.event not in names.events:
            yield must("The event that starts it is gone. Choose another.", start.id)
        if problem := who_problem(start.who, names):
            yield Check(MUST, problem, start.id)
        if start.how == "date" and start.date not in names.dates:
            yield must("The date that it starts by is gone. Choose another.", start.id)
        if start.how == "rhythm" and not any(day >= names.today for day in start.days()):
            yield should("None of its days lies ahead.", start.id)
        if start.how == "rhythm" and itinerary.again == "once":
            yield should("Each person comes in on one of its days only.", start.id)
        if start.how == "date" and start.yearly and itinerary.again == "once":
            yield should("It starts each year, but lets each person in once only.", start.id)
    yield from _same_starts(itinerary)
    yield from _subject(itinerary, names)
    for rule in itinerary.exits:
        if rule.event and rule.event not in names.events:
            yield must("The event that takes people out is gone.", rule.id)
        if problem := who_problem(rule.who, names):
            yield Check(MUST, problem, rule.id)
    if itinerary.goal and itinerary.goal.event not in names.events:
        yield must("The event of the goal is gone. Choose another.", "", "goal")
    if itinerary.goal and itinerary.goal.amount:
        said = names.words.event(itinerary.goal.event)
        if said is None or said.detail(itinerary.goal.amount) is None:
            yield should("The goal’s event has no such amount.", "", "goal")
    if itinerary.goal is None:
        yield should("No goal is set: nobody will see what the journey brought.", "", "goal")


def _same_starts(itinerary: Itinerary) -> Iterator[Check]:
    """Starts that say the same as one before."""
    said: list[Start] = []
    for start in itinerary.starts:
        bare = dataclasses.replace(start, id="")
        if bare in said:
            yield should("This starts it already, above.", start.id)
        said.append(bare)


def _subject(itinerary: Itinerary, names: Names) -> Iterator[Check]:
    """Whether what tells several times of one person apart is said by what starts it."""
    for start in itinerary.starts:
        event = names.words.event(start.event) if start.how == "event" else None
        said = {one.key for one in event.details} if event else set()
        if itinerary.subject and itinerary.subject not in said:
            yield should(
                Wording(
                    "This has no “%(it)s”: people come in by it one at a time.",
                    it=itinerary.subject,
                ),
                start.id,
            )


def _goals(lane: Itinerary) -> Iterator[Check]:
    """Whether people can be taken on to where the goal stands in a lane."""
    found = [(step, depth) for step, depth, _ in lane.walk() if isinstance(step, GoalStep)]
    for place, (step, depth) in enumerate(found):
        if depth:
            yield must("A goal comes after the paths, where they have joined again.", step.id)
        elif place:
            yield must("One goal is enough: the first one counts.", step.id)


def _of_step(
    step: Step, itinerary: Itinerary, names: Names, unsendable: Collection[int]
) -> Iterator[Check]:
    if isinstance(step, MessageStep):
        if any(one not in names.messages for one in step.messages):
            yield must("Choose the message of this step, or write it.", step.id)
        elif any(one in unsendable for one in step.messages):
            yield must("Nobody has approved this message yet.", step.id)
        if len(set(step.messages)) < len(step.messages):
            yield should("The same message is tried twice.", step.id)
    if isinstance(step, BranchStep):
        for path in step.paths[:-1]:
            by_size = path.detail and path.compare in ("more", "less")
            if by_size and number_of(path.value) is None:
                yield must("Compare it with a number.", path.id)
            if not path.who and not path.detail:
                yield must("Choose who takes this path.", path.id)
            elif problem := who_problem(path.who, names):
                yield Check(MUST, problem, path.id)
    if isinstance(step, WaitForStep):
        for path in step.paths[:-1]:
            if not path.reaction and path.event not in names.events:
                yield must("Choose what this path waits for.", path.id)
        if not step.span.amount:
            yield must("Give it some time: with none, nothing can happen.", step.id)
    if isinstance(step, ChangeStep):
        yield from _of_change(step, names)
    if isinstance(step, WaitStep):
        if step.date and step.date not in names.dates:
            yield must("The date of this step is gone. Choose another.", step.id)
        asks = step.date or step.span.amount or step.at is not None or step.weekday is not None
        if not asks:
            yield should("This step waits no time at all.", step.id)
    if isinstance(step, TaskStep | TellStep):
        gone = [one for one in step.to if one not in names.colleagues]
        if step.to and len(gone) == len(step.to):
            yield must("Nobody is left who would get this. Choose a colleague.", step.id)
        elif gone:
            yield should("A colleague of this step is gone; the others get it.", step.id)
    if isinstance(step, JumpStep) and step.journey and step.journey not in names.journeys:
        yield must("The journey this step leads to was deleted. Choose another.", step.id)
    if isinstance(step, GoalStep) and itinerary.goal is None:
        yield must("Choose the goal below: nobody can reach it yet.", step.id)
    if isinstance(step, GoalStep) and itinerary.goal and itinerary.goal.ends:
        yield should("The journey ends at the goal: nobody goes on from here by it.", step.id)
    if isinstance(step, Parting) and not any(path.steps for path in step.paths):
        yield should("All paths of this step are empty: everyone goes on the same way.", step.id)


def details_said(itinerary: Itinerary, names: Names) -> list[set[str]]:
    """What each of its starts says, by key; nothing where it is no event."""
    events = [names.words.event(one.event) if one.event else None for one in itinerary.starts]
    return [{one.key for one in event.details} if event else set() for event in events]


def _twice(steps: tuple[Step, ...], names: Names, before: frozenset[int]) -> list[Check]:
    """Messages that the same people get twice on their way; `before` are those on the way there."""
    found = []
    for step in steps:
        if isinstance(step, MessageStep) and step.message:
            if step.message in before:
                called = names.messages.get(step.message, ("", ""))[0]
                said = Wording("Some people get “%(it)s” a second time here.", it=called)
                found.append(should(said, step.id))
            before |= {step.message}
        if isinstance(step, Parting):
            for path in step.paths:
                found += _twice(path.steps, names, before)
            before |= {
                one.message
                for path in step.paths
                for one, _, _ in Itinerary(steps=path.steps).walk()
                if isinstance(one, MessageStep)
            } - {0}
    return found


#: Less time than this leaves most people no chance to react to a message.
_SOON = dt.timedelta(hours=4)


def _too_soon(itinerary: Itinerary) -> Iterator[Check]:
    """Waits that are over before anybody could react to a message."""
    for step, _, _ in itinerary.walk():
        if not isinstance(step, WaitForStep) or step.span.length() >= _SOON:
            continue
        if any(path.reaction in ("opened", "clicked", "replied") for path in step.paths):
            yield should("Few people react to a message so soon. Give it more time.", step.id)


def _of_details(itinerary: Itinerary, names: Names) -> Iterator[Check]:
    """What branches ask of the event that starts it, which says nothing of that, or of an answer
    where nobody is asked before."""
    known = set[str]().union(*details_said(itinerary, names))
    asked = False
    for step, _, _ in itinerary.walk():
        asked = asked or isinstance(step, WebhookStep)
        if isinstance(step, BranchStep):
            for path in step.paths[:-1]:
                if path.detail.startswith(ANSWER):
                    if not asked:
                        yield must("No webhook before this step gives an answer.", path.id)
                elif path.detail and path.detail not in known:
                    yield must(Wording("What starts it has no “%(it)s”.", it=path.detail), path.id)


def _of_change(step: ChangeStep, names: Names) -> Iterator[Check]:
    if step.what == "field":
        spec = names.fields.get(step.field)
        if spec is None:
            yield must("The field that this step sets is gone. Choose another.", step.id)
        elif step.value and (wrong := value_problem(spec, step.value)):
            yield Check(MUST, wrong, step.id)
        return
    known = {
        "tag": names.tags,
        "list": names.lists,
        "topic": names.topics,
        "score": names.scores,
    }[step.what]
    if step.number not in known:
        yield must("What this step gives or takes is gone.", step.id)


def value_problem(spec: FieldSpec, value: str) -> str:
    """Why a field cannot hold what is typed; empty where it can."""
    if spec.is_day and value.lower() == TODAY:
        return ""
    try:
        if spec.ref == "timezone":
            values.timezone(value)
        values.typed(spec.type, value, spec.options)
    except values.ValueProblem as problem:
        return str(problem)
    return ""


def who_problem(who: Who, names: Names) -> str:
    """Why it cannot be said who is meant; empty where it can."""
    if who.segment and who.segment not in names.segments:
        return Wording("The segment is gone. Choose another.")
    try:
        d.parse({"lines": list(who.lines)}, names.words)
    except d.DefinitionError as problem:
        return str(problem)
    return ""


def _behind_exits(steps: tuple[Step, ...]) -> list[Check]:
    """Steps that nobody can get to, because everyone leaves before."""
    found = []
    over = False
    for step in steps:
        if over:
            found.append(must("Nobody can get here: everyone has left before.", step.id))
            break
        over = _all_leave(step)
        if isinstance(step, Parting):
            for path in step.paths:
                found += _behind_exits(path.steps)
    return found


def _all_leave(step: Step) -> bool:
    if isinstance(step, (ExitStep, JumpStep)):
        return True
    return isinstance(step, Parting) and all(
        any(_all_leave(inner) for inner in path.steps) for path in step.paths
    )
