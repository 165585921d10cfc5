"""How one person walks a journey: the judge of what the database does for thousands at once.

Given the steps and what happened to a person, `walk` says which step they are on at a moment, how
they came there, and which messages were asked for.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Callable, Mapping, Sequence

from meadowrun.core.audience.persons import share_number
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitStep,
    MessageStep,
    SplitStep,
    WaitForStep,
    WaitStep,
)


@dataclasses.dataclass(frozen=True, slots=True)
class Happened:
    """Something that a person did: the key of an event kind, at its own moment."""

    event: str
    at: dt.datetime


@dataclasses.dataclass(frozen=True, slots=True)
class Answered:
    """What became of a message: when it was settled, and whether it was handed over; when the
    person reacted, by kind."""

    at: dt.datetime
    sent: bool
    reactions: tuple[tuple[str, dt.datetime], ...] = ()


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """All that the judge must know of one person."""

    contact: int
    zone: zoneinfo.ZoneInfo
    #: what they did, in order
    events: Sequence[Happened] = ()
    #: whether they are in a segment at a moment
    is_in: Callable[[int, dt.datetime], bool] = lambda segment, at: False
    #: what becomes of the message of a step that is asked for at a moment
    answers: Callable[[str, dt.datetime], Answered | None] = lambda step, at: None


@dataclasses.dataclass(frozen=True, slots=True)
class Came:
    """One arrival: on which step (END: at the end), when, and why from the step before."""

    step: str
    at: dt.datetime
    because: str


def wait_until(step: WaitStep, arrived: dt.datetime, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """When a wait is over. With an hour, whole days and weeks go by the person's calendar, and it
    is the first such hour after the time is up."""
    if step.at is None:
        return arrived + step.span.length()
    hour = dt.time(*divmod(step.at, 60))
    if step.span.unit in ("day", "week"):
        day = arrived.astimezone(zone).date() + step.span.length()
        return _moment(day, hour, zone)
    up = arrived + step.span.length()
    day = up.astimezone(zone).date()
    at = _moment(day, hour, zone)
    return at if at >= up else _moment(day + dt.timedelta(days=1), hour, zone)


def _moment(day: dt.date, hour: dt.time, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """A time on a clock; one that does not exist moves forward, of two the first."""
    local = dt.datetime.combine(day, hour, zone)
    return local.astimezone(dt.UTC)


def path_by_chance(step: SplitStep, contact: int, salt: str) -> str:
    """The path of a random split that a person takes, always the same one for a salt."""
    number, upto = share_number(contact, f"{salt}:{step.id}"), 0
    for path in step.paths:
        upto += path.percent * 100
        if number < upto:
            return path.id
    return step.paths[-1].id


def walk(
    steps: Mapping[str, Flat],
    first: str,
    person: Person,
    began: dt.datetime,
    until: dt.datetime,
    salt: str,
) -> list[Came]:
    """Every arrival of a person who came in at `began`, up to a moment."""
    found = [Came(first, began, "start")]
    sent_by: dict[str, Answered] = {}
    while found[-1].step != END:
        came = found[-1]
        following = _follow(steps[came.step], came.at, person, until, salt, sent_by)
        if following is None:
            break
        found.append(following)
    return found


def _follow(
    flat: Flat,
    at: dt.datetime,
    person: Person,
    until: dt.datetime,
    salt: str,
    sent: dict[str, Answered],
) -> Came | None:
    """Where somebody goes who arrived on a step, if that is by `until`."""
    step, first = flat.step, dict(flat.first_of)
    if isinstance(step, ExitStep):
        return Came(END, at, "exit")
    if isinstance(step, ChangeStep):
        return Came(flat.next, at, "done")
    if isinstance(step, WaitStep):
        over = wait_until(step, at, person.zone)
        return Came(flat.next, over, "time") if over <= until else None
    if isinstance(step, SplitStep):
        path = path_by_chance(step, person.contact, salt)
        return Came(first[path], at, path)
    if isinstance(step, BranchStep):
        path = next(
            (one.id for one in step.paths[:-1] if person.is_in(one.segment, at)),
            step.paths[-1].id,
        )
        return Came(first[path], at, path)
    if isinstance(step, MessageStep):
        answer = person.answers(step.id, at)
        if answer is None or answer.at > until:
            return None
        if answer.sent:
            sent[""] = answer
        if not answer.sent and step.refused == "exit":
            return Came(END, answer.at, "refused")
        return Came(flat.next, answer.at, "sent" if answer.sent else "refused")
    return _awaited(step, flat, first, at, person, until, sent.get(""))


def _awaited(
    step: WaitForStep,
    flat: Flat,
    first: Mapping[str, str],
    at: dt.datetime,
    person: Person,
    until: dt.datetime,
    last: Answered | None,
) -> Came | None:
    """What a person who waits for something goes on by: what happened first since they arrived; of
    reactions those to the last message that was sent to them, whenever they came."""
    over = at + step.span.length()
    found: list[tuple[dt.datetime, int, str]] = []
    for place, path in enumerate(step.paths[:-1]):
        moments = (
            [max(moment, at) for kind, moment in last.reactions if kind == path.reaction]
            if path.reaction and last
            else [one.at for one in person.events if one.event == path.event and one.at >= at]
            if path.event
            else []
        )
        if moments:
            found.append((min(moments), place, path.id))
    if found and min(found)[0] < over:
        moment, _, path_id = min(found)
        return Came(first[path_id], moment, path_id) if moment <= until else None
    return Came(first[step.paths[-1].id], over, step.paths[-1].id) if over <= until else None
