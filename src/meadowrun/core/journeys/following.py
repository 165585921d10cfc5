"""Where one person goes from each kind of step, as the judge says it."""

import dataclasses
import datetime as dt

from meadowrun.core.journeys.chance import path_by_chance
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.one_person import Answered, Came, Person
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    GoalStep,
    JumpStep,
    MessageStep,
    SplitStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
)
from meadowrun.core.journeys.waits import wait_until


@dataclasses.dataclass(frozen=True, slots=True)
class Standing:
    """Where somebody stands: on which step, since when, from when on they are looked at there, and
    the last message that was sent to them."""

    flat: Flat
    came: Came
    since: dt.datetime
    last: Answered | None = None


def follow(
    place: Standing, person: Person, until: dt.datetime, salt: str
) -> tuple[Came | None, Answered | None]:
    """Where somebody goes from where they stand, if that is by `until`, and the message that was
    sent to them there."""
    flat, came = place.flat, place.came
    step, first = flat.step, dict(flat.first_of)

    def at_once(to: str, because: str) -> tuple[Came, None]:
        return Came(to, came.at, because, came.seen), None

    if isinstance(step, ExitStep):
        return at_once(END, "exit")
    if isinstance(step, ChangeStep | TaskStep | TellStep | GoalStep):
        return at_once(flat.next, "done")
    if isinstance(step, JumpStep):
        return at_once(END, "jumped")
    if isinstance(step, SplitStep):
        path = path_by_chance(step, person.contact, salt)
        return at_once(first[path], path)
    if isinstance(step, BranchStep):
        path = next(
            (one.id for one in step.paths[:-1] if person.takes(one, came.seen)),
            step.paths[-1].id,
        )
        return at_once(first[path], path)
    if isinstance(step, WaitStep):
        return _waited(step, place, person, until), None
    if isinstance(step, WaitForStep):
        return _awaited(step, place, person, until), None
    answer = person.answers(step.id, came.at)
    if answer is None or answer.at > until:
        return None, None
    if isinstance(step, WebhookStep):
        return _called(step, flat, answer), None
    return _answered(step, flat, answer), answer if answer.sent else None


def _called(step: WebhookStep, flat: Flat, answer: Answered) -> Came:
    """Where somebody goes whose call of a webhook is settled."""
    if not answer.sent and step.failed == "exit":
        return Came(END, answer.at, "failed", answer.at)
    return Came(flat.next, answer.at, "answered" if answer.sent else "failed", answer.at)


def _answered(step: MessageStep, flat: Flat, answer: Answered) -> Came:
    """Where somebody goes whose message is settled."""
    if answer.control:
        return Came(flat.next, answer.at, "control", answer.at)
    if not answer.sent and step.refused == "exit":
        return Came(END, answer.at, "refused", answer.at)
    return Came(flat.next, answer.at, "sent" if answer.sent else "refused", answer.at)


def _waited(step: WaitStep, place: Standing, person: Person, until: dt.datetime) -> Came | None:
    """Where somebody goes who waits for a time. It is worked out again when their clock changes:
    one that has passed by then is over at once, that of a date is past."""
    flat, came = place.flat, place.came
    date = person.day(step.date) if step.date else None
    moments = [since for since, _ in person.zones if place.since < since <= until]
    for look, following in zip([place.since, *moments], [*moments, None], strict=True):
        over = wait_until(step, came.at, person.clock(look), date)
        passed = look > came.seen and step.date and over is not None and over <= look
        if over is None or passed:
            at = look if passed else came.at
            return Came(END if step.past == "exit" else flat.next, at, "past", look)
        seen = max(look, over)
        if following is None or seen < following:
            return Came(flat.next, over, "time", seen) if seen <= until else None
    return None


def _awaited(step: WaitForStep, place: Standing, person: Person, until: dt.datetime) -> Came | None:
    """What a person who waits for something goes on by: what happened first since they arrived, of
    what is known by then; of reactions those to the last message that was sent to them, whenever
    they came."""
    came, last = place.came, place.last
    over, first = came.at + step.span.length(), dict(place.flat.first_of)
    found: list[tuple[dt.datetime, tuple[dt.datetime, bool, int, str]]] = []
    for order, path in enumerate(step.paths[:-1]):
        moments = (
            [
                (max(moment, came.at), moment)
                for kind, moment, link in last.reactions
                if kind == path.reaction and path.link in ("", link)
            ]
            if path.reaction and last
            else [(o.at, o.known) for o in person.events if o.event == path.event]
            if path.event
            else []
        )
        # Of what happens at once the one link counts before any link.
        found += [
            (max(known, place.since), (at, not path.link, order, path.id))
            for at, known in moments
            if came.at <= at < over
        ]
    seen = min((known for known, _ in found), default=None)
    if seen is None or seen > max(over, place.since):
        seen, path_id = max(over, place.since), step.paths[-1].id
        return Came(first[path_id], over, path_id, seen) if seen <= until else None
    at, _, _, path_id = min(did for known, did in found if known <= seen)
    return Came(first[path_id], at, path_id, seen) if seen <= until else None
