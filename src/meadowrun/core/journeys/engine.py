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
from meadowrun.core.journeys.waits import wait_until


@dataclasses.dataclass(frozen=True, slots=True)
class Happened:
    """Something that a person did: the key of an event kind, at its own moment, what it was about
    where it says so, and when we were told of it where that was later."""

    event: str
    at: dt.datetime
    about: str = ""
    told: dt.datetime | None = None

    @property
    def known(self) -> dt.datetime:
        """From when on it was known."""
        return self.told or self.at


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
    #: the clocks that they went over to later, each with since when, in order
    zones: Sequence[tuple[dt.datetime, zoneinfo.ZoneInfo]] = ()
    #: when it was looked at whom an exit rule means, in order
    looks: Sequence[dt.datetime] = ()

    def clock(self, at: dt.datetime) -> zoneinfo.ZoneInfo:
        """Whose hours they live by at a moment."""
        return next((zone for since, zone in reversed(self.zones) if since <= at), self.zone)

    def takes(self, path: Path, at: dt.datetime) -> bool:
        """Whether a path of a branch is for them when they come to it."""
        if path.detail and not holds(path, self.details):
            return False
        return bool(path.detail and not path.who) or self.is_one(path.who, at)


#: Reaching the goal takes nobody on.
NOWHERE: Mapping[str, str] = {}


@dataclasses.dataclass(frozen=True, slots=True)
class Came:
    """One arrival: on which step (END: at the end), when, and why from the step before. What is
    told late has people go on as of its own moment: `seen` is when that was known."""

    step: str
    at: dt.datetime
    because: str
    seen: dt.datetime = dataclasses.field(compare=False)


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
    """Every arrival of a person who came in at `began`, up to a moment. What `exits` say takes them
    out at once; reaching the goal takes them on from the steps in `lifts`, if it does
    not end the journey. With a subject, what they did about another one counts for nothing."""
    if subject:
        events = [one for one in person.events if one.about in ("", subject)]
        person = dataclasses.replace(person, events=events)
    out = _taken_out(exits, person, began)
    if out is not None and out.seen <= until:
        # What happens at the same moment as what takes them out is not reached.
        before = out.seen - dt.timedelta(microseconds=1)
        found = walk(steps, first, person, began, before, salt, (), "", goal, lifts)
        last = found[-1]
        if last.step == END:
            return found
        return [*found, dataclasses.replace(out, at=max(out.at, last.at))]
    found = [Came(first, began, "start", began)]
    sent_by: dict[str, Answered] = {}
    reached = _reached(goal, person, began, until)
    while found[-1].step != END:
        came = found[-1]
        following = _follow(steps[came.step], came, person, until, salt, sent_by)
        over = following.seen if following else until
        if reached and came.step in lifts and came.seen < reached.known <= over:
            # What is told late happens to them on the step that they are on by then.
            at = max(reached.at, came.at)
            following = Came(lifts[came.step], at, "goal", reached.known)
        if following is None:
            break
        found.append(following)
    return found


def _reached(
    goal: Goal | None, person: Person, began: dt.datetime, until: dt.datetime
) -> Happened | None:
    """By what somebody reaches the goal, as it is first known of by a moment, within its days."""
    if goal is None:
        return None
    last = began + dt.timedelta(days=goal.days)
    found = [
        one
        for one in person.events
        if one.event == goal.event and began < one.at < last and one.known <= until
    ]
    return min(found, key=lambda one: (one.known, one.at), default=None)


def _taken_out(exits: Sequence[ExitRule], person: Person, began: dt.datetime) -> Came | None:
    """When something first takes a person out, and which rule: something that they did, or whom
    they are among when it is looked at."""
    found = [
        (one.known, one.at, place, rule.id)
        for place, rule in enumerate(exits)
        for one in person.events
        if rule.event and one.event == rule.event and one.at > began
    ]
    found += [
        (look, look, place, rule.id)
        for place, rule in enumerate(exits)
        for look in person.looks
        if rule.who and look > began and person.is_one(rule.who, look)
    ]
    if not found:
        return None
    seen, at, _, ident = min(found)
    return Came(END, at, ident, seen)


def _follow(
    flat: Flat,
    came: Came,
    person: Person,
    until: dt.datetime,
    salt: str,
    sent: dict[str, Answered],
) -> Came | None:
    """Where somebody goes who arrived on a step, if that is by `until`."""
    step, first = flat.step, dict(flat.first_of)

    def at_once(to: str, because: str) -> Came:
        return Came(to, came.at, because, came.seen)

    if isinstance(step, ExitStep):
        return at_once(END, "exit")
    if isinstance(step, ChangeStep | TaskStep | TellStep | GoalStep):
        return at_once(flat.next, "done")
    if isinstance(step, WaitStep):
        return _waited(step, flat, came, person, until)
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
    if isinstance(step, WebhookStep | MessageStep):
        answer = person.answers(step.id, came.at)
        if answer is None or answer.at > until:
            return None
        if isinstance(step, WebhookStep):
            return _called(step, flat, answer)
        if answer.sent:
            sent[""] = answer
        return _answered(step, flat, answer)
    return _awaited(step, flat, came, person, until, sent.get(""))


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


def _waited(
    step: WaitStep, flat: Flat, came: Came, person: Person, until: dt.datetime
) -> Came | None:
    """Where somebody goes who waits for a time. It is worked out again when their clock changes:
    one that has passed by then is over at once, that of a date is past."""
    date = person.day(step.date) if step.date else None
    moments = [since for since, _ in person.zones if since > came.seen]
    for look, following in zip([came.seen, *moments], [*moments, None], strict=True):
        over = wait_until(step, came.at, person.clock(look), date)
        passed = look > came.seen and step.date and over is not None and over <= look
        if over is None or passed:
            at = look if passed else came.at
            return Came(END if step.past == "exit" else flat.next, at, "past", look)
        seen = max(look, over)
        if following is None or seen < following:
            return Came(flat.next, over, "time", seen) if seen <= until else None
    return None


def _awaited(
    step: WaitForStep,
    flat: Flat,
    came: Came,
    person: Person,
    until: dt.datetime,
    last: Answered | None,
) -> Came | None:
    """What a person who waits for something goes on by: what happened first since they arrived, of
    what is known by then; of reactions those to the last message that was sent to them, whenever
    they came."""
    over, first = came.at + step.span.length(), dict(flat.first_of)
    found: list[tuple[dt.datetime, tuple[dt.datetime, bool, int, str]]] = []
    for place, path in enumerate(step.paths[:-1]):
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
            (max(known, came.seen), (at, not path.link, place, path.id))
            for at, known in moments
            if came.at <= at < over
        ]
    seen = min((known for known, _ in found), default=None)
    if seen is None or seen > max(over, came.seen):
        seen, path_id = max(over, came.seen), step.paths[-1].id
        return Came(first[path_id], over, path_id, seen) if seen <= until else None
    at, _, _, path_id = min(did for known, did in found if known <= seen)
    return Came(first[path_id], at, path_id, seen) if seen <= until else None
