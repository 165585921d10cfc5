"""How one person walks a journey: the judge of what the database does for thousands at once.

Given the steps and what happened to a person, `walk` says which step they are on at a moment, how
they came there, and which messages were asked for.
"""

import dataclasses
import datetime as dt
import zoneinfo
from collections.abc import Callable, Mapping, Sequence

from meadowrun.core.audience.persons import share_number
from meadowrun.core.journeys.details import holds
from meadowrun.core.journeys.flat import END, Flat
from meadowrun.core.journeys.steps import (
    BranchStep,
    ChangeStep,
    ExitRule,
    ExitStep,
    Goal,
    GoalStep,
    JumpStep,
    MessageStep,
    Path,
    SplitStep,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)


@dataclasses.dataclass(frozen=True, slots=True)
class Happened:
    """Something that a person did: the key of an event kind, at its own moment, and what it was
    about where it says so."""

    event: str
    at: dt.datetime
    about: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Answered:
    """What became of a message: when it was settled, and whether it was handed over; when the
    person reacted, by kind, and of clicks the address. Of a webhook: when it was settled, and
    whether it was answered. Who is in the control group goes on without the message."""

    at: dt.datetime
    sent: bool
    reactions: tuple[tuple[str, dt.datetime, str], ...] = ()
    control: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Person:
    """All that the judge must know of one person."""

    contact: int
    zone: zoneinfo.ZoneInfo
    #: what they did, in order
    events: Sequence[Happened] = ()
    #: whether they are among certain people at a moment
    is_one: Callable[[Who, dt.datetime], bool] = lambda who, at: False
    #: what becomes of the message of a step that is asked for at a moment
    answers: Callable[[str, dt.datetime], Answered | None] = lambda step, at: None
    #: the day that a field of theirs holds
    day: Callable[[str], dt.date | None] = lambda field: None
    #: what the event said that brought them in
    details: Mapping[str, object] | None = None

    def takes(self, path: Path, at: dt.datetime) -> bool:
        """Whether a path of a branch is for them when they come to it."""
        if path.detail and not holds(path, self.details):
            return False
        return bool(path.detail and not path.who) or self.is_one(path.who, at)


#: Reaching the goal takes nobody on.
NOWHERE: Mapping[str, str] = {}


@dataclasses.dataclass(frozen=True, slots=True)
class Came:
    """One arrival: on which step (END: at the end), when, and why from the step before."""

    step: str
    at: dt.datetime
    because: str


def wait_until(
    step: WaitStep, arrived: dt.datetime, zone: zoneinfo.ZoneInfo, date: dt.date | None = None
) -> dt.datetime | None:
    """When a wait is over; None where that was before they arrived, or where it is for a date and
    they have none. With an hour or a day of the week, whole days and weeks go by the person's
    calendar, and it is the first such moment after the time is up."""
    if step.date:
        return _date_until(step, arrived, zone, date)
    if step.at is None and step.weekday is None:
        return arrived + step.span.length()
    up = arrived + step.span.length()
    if step.at is None:
        day = up.astimezone(zone).date()
        ahead = ((step.weekday or 0) - day.weekday()) % 7
        # On such a day it is over at once.
        return max(up, _moment(day + dt.timedelta(days=ahead), dt.time(), zone))
    hour = dt.time(*divmod(step.at, 60))
    whole = step.span.unit in ("day", "week")
    day = (
        arrived.astimezone(zone).date() + step.span.length()
        if whole
        else up.astimezone(zone).date()
    )
    # An hour of a day that is counted in whole days may come before the same hour of the day when
    # they arrived, but never before they did.
    least = arrived if whole else up
    while not (_on(step, day) and _moment(day, hour, zone) >= least):
        day += dt.timedelta(days=1)
    return _moment(day, hour, zone)


def _on(step: WaitStep, day: dt.date) -> bool:
    """Whether a day is one of those that a wait goes to."""
    return step.weekday is None or day.weekday() == step.weekday


def _date_until(
    step: WaitStep, arrived: dt.datetime, zone: zoneinfo.ZoneInfo, date: dt.date | None
) -> dt.datetime | None:
    """So long after a date, or before it, at an hour on their own clock; of one that comes round
    each year the next time."""
    if date is None:
        return None
    length = -step.span.length() if step.before else step.span.length()
    hour = dt.time(*divmod(step.at or 0, 60))
    years = (arrived.year - 1, arrived.year, arrived.year + 1, arrived.year + 2)
    for day in [_in_year(date, year) for year in years] if step.yearly else [date]:
        whole = step.span.unit in ("day", "week")
        try:
            moment = (
                _moment(day + length, hour, zone) if whole else _moment(day, hour, zone) + length
            )
        except OverflowError:
            return None
        if moment >= arrived:
            return moment
    return None


def _in_year(date: dt.date, year: int) -> dt.date:
    """The same day of a year: 29 February is 28 February where a year lacks it."""
    try:
        return date.replace(year=year)
    except ValueError:
        return dt.date(year, 2, 28)


def on_clock(day: dt.date, minutes: int, zone: zoneinfo.ZoneInfo) -> dt.datetime:
    """The moment of a day on a clock, so many minutes after midnight."""
    return _moment(day, dt.time(*divmod(minutes, 60)), zone)


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


def in_control(contact: int, percent: int, salt: str) -> bool:
    """Whether somebody is in the control group of a journey, always the same for a salt."""
    return percent > 0 and share_number(contact, f"{salt}:control") < percent * 100


def walk(
    steps: Mapping[str, Flat],
    first: str,
    person: Person,
    began: dt.datetime,
    until: dt.datetime,
    salt: str,
    exits: Sequence[ExitRule] = (),
    subject: str = "",
    goal: Goal | None = None,
    lifts: Mapping[str, str] = NOWHERE,
) -> list[Came]:
    """Every arrival of a person who came in at `began`, up to a moment. What `exits` say of events
    takes them out at once; reaching the goal takes them on from the steps in `lifts`, if it does
    not end the journey. With a subject, what they did about another one counts for nothing."""
    if subject:
        events = [one for one in person.events if one.about in ("", subject)]
        person = dataclasses.replace(person, events=events)
    out = _taken_out(exits, person, began)
    if out is not None and out.at <= until:
        # What happens at the same moment as what takes them out is not reached.
        before = out.at - dt.timedelta(microseconds=1)
        found = walk(steps, first, person, began, before, salt, (), "", goal, lifts)
        return found if found[-1].step == END else [*found, out]
    found = [Came(first, began, "start")]
    sent_by: dict[str, Answered] = {}
    reached = _reached(goal, person, began, until)
    while found[-1].step != END:
        came = found[-1]
        following = _follow(steps[came.step], came.at, person, until, salt, sent_by)
        over = following.at if following else until
        if reached and came.step in lifts and came.at < reached <= over:
            following = Came(lifts[came.step], reached, "goal")
        if following is None:
            break
        found.append(following)
    return found


def _reached(
    goal: Goal | None, person: Person, began: dt.datetime, until: dt.datetime
) -> dt.datetime | None:
    """When somebody first reaches the goal, by a moment and within its days."""
    if goal is None:
        return None
    last = began + dt.timedelta(days=goal.days)
    found = [
        one.at
        for one in person.events
        if one.event == goal.event and began < one.at < last and one.at <= until
    ]
    return min(found, default=None)


def _taken_out(exits: Sequence[ExitRule], person: Person, began: dt.datetime) -> Came | None:
    """When something first takes a person out, and which rule."""
    found = [
        (one.at, place, rule.id)
        for place, rule in enumerate(exits)
        for one in person.events
        if one.event == rule.event and one.at > began
    ]
    if not found:
        return None
    at, _, ident = min(found)
    return Came(END, at, ident)


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
    if isinstance(step, ChangeStep | TaskStep | TellStep | GoalStep):
        return Came(flat.next, at, "done")
    if isinstance(step, WaitStep):
        over = wait_until(step, at, person.zone, person.day(step.date) if step.date else None)
        if over is None:
            return Came(END if step.past == "exit" else flat.next, at, "past")
        return Came(flat.next, over, "time") if over <= until else None
    if isinstance(step, JumpStep):
        return Came(END, at, "jumped")
    if isinstance(step, SplitStep):
        path = path_by_chance(step, person.contact, salt)
        return Came(first[path], at, path)
    if isinstance(step, BranchStep):
        path = next(
            (one.id for one in step.paths[:-1] if person.takes(one, at)),
            step.paths[-1].id,
        )
        return Came(first[path], at, path)
    if isinstance(step, WebhookStep):
        answer = person.answers(step.id, at)
        if answer is None or answer.at > until:
            return None
        if not answer.sent and step.failed == "exit":
            return Came(END, answer.at, "failed")
        return Came(flat.next, answer.at, "answered" if answer.sent else "failed")
    if isinstance(step, MessageStep):
        answer = person.answers(step.id, at)
        if answer is None or answer.at > until:
            return None
        if answer.sent:
            sent[""] = answer
        if answer.control:
            return Came(flat.next, answer.at, "control")
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
    found: list[tuple[dt.datetime, bool, int, str]] = []
    for place, path in enumerate(step.paths[:-1]):
        moments = (
            [
                max(moment, at)
                for kind, moment, link in last.reactions
                if kind == path.reaction and path.link in ("", link)
            ]
            if path.reaction and last
            else [one.at for one in person.events if one.event == path.event and one.at >= at]
            if path.event
            else []
        )
        if moments:
            # Of what happens at once the one link counts before any link.
            found.append((min(moments), not path.link, place, path.id))
    if found and min(found)[0] < over:
        moment, _, _, path_id = min(found)
        return Came(first[path_id], moment, path_id) if moment <= until else None
    return Came(first[step.paths[-1].id], over, step.paths[-1].id) if over <= until else None
