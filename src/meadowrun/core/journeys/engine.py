"""How one person walks a journey: the judge of what the database does for thousands at once.

Given the steps and what happened to a person, `walk` says which step they are on at a moment, how
they came there, and which messages were asked for. Where the itinerary or the person becomes
another on the way, `begin`, `go_on` and `carry_over` say it part by part.
"""

import dataclasses
import datetime as dt
from collections.abc import Mapping, Sequence

from meadowrun.core.journeys.concerned import target_of
from meadowrun.core.journeys.flat import END, Flat, first_steps, flatten, lifts
from meadowrun.core.journeys.following import Standing, follow
from meadowrun.core.journeys.one_person import Answered, Came, Happened, Person, Way
from meadowrun.core.journeys.steps import OUTWARD, ExitRule, Goal, Itinerary

#: The least time there is.
TICK = dt.timedelta(microseconds=1)


@dataclasses.dataclass(frozen=True, slots=True)
class Rules:
    """What everybody on a journey goes by."""

    steps: Mapping[str, Flat]
    #: the step that everybody begins with in each lane
    first: Mapping[str, str]
    #: what chance is drawn by
    salt: str
    exits: Sequence[ExitRule]
    goal: Goal | None
    #: the steps from which whoever reaches the goal goes on → where to
    lifts: Mapping[str, str]

    @classmethod
    def of(cls, itinerary: Itinerary, salt: str) -> "Rules":
        """Those of an itinerary."""
        return cls(
            flatten(itinerary),
            first_steps(itinerary),
            salt,
            itinerary.exits,
            itinerary.goal,
            lifts(itinerary),
        )


def walk(
    rules: Rules,
    person: Person,
    began: dt.datetime,
    until: dt.datetime,
    lane: str = "",
    subject: str = "",
) -> Sequence[Came]:
    """Every arrival of a person who came into a lane at `began`, up to a moment. With a subject,
    what they did about another one counts for nothing."""
    return go_on(rules, person.about(subject), begin(rules, lane, began), until).came


def begin(rules: Rules, lane: str, began: dt.datetime) -> Way:
    """The way of whoever comes into a lane."""
    return Way(began, began, (Came(rules.first[lane], began, "start", began),))


def go_on(rules: Rules, person: Person, way: Way, until: dt.datetime) -> Way:
    """How far somebody comes up to a moment. The goal where it ends the journey, and what the exit
    rules say, take them out at once; else reaching the goal takes them on from the steps of
    `lifts`."""
    goal = way.goal or _reached(rules.goal, person, way, until)
    out = None if way.over else _taken_out(rules, person, way, goal, until)
    # What happens at the same moment as what takes them out is not reached.
    came, last = _steps(rules, person, way, goal, out.seen - TICK if out else until)
    if out and came[-1].step != END:
        came = (*came, dataclasses.replace(out, at=max(out.at, came[-1].at)))
    return Way(way.began, until, came, last, goal)


def carry_over(
    way: Way, before: Rules, after: Rules, at: dt.datetime, to: Mapping[str, str]
) -> Way:
    """Somebody's way when another edition is used from a moment on. Whoever waits is looked at
    again. Whoever is on a step that is gone goes where `to` says, END: out; where it says nothing,
    behind the step."""
    here = way.here
    if way.over:
        return way
    if here.step in after.steps:
        *earlier, _ = way.came
        return dataclasses.replace(way, came=(*earlier, dataclasses.replace(here, seen=at)))
    target = to.get(here.step, target_of(here.step, before.steps, after.steps))
    because = "removed" if to.get(here.step) == END else "edited"
    return dataclasses.replace(way, came=(*way.came, Came(target, at, because, at)))


def _steps(
    rules: Rules, person: Person, way: Way, goal: Happened | None, until: dt.datetime
) -> tuple[tuple[Came, ...], Answered | None]:
    """Every arrival up to a moment by what each step says, and the last message that was sent."""
    found, last = list(way.came), way.last
    while found[-1].step != END:
        came = found[-1]
        since = max(came.seen, way.since)
        flat = rules.steps[came.step]
        asked = isinstance(flat.step, OUTWARD) or len(found) == 1
        if asked and (out := _kept_from(rules, person, came)):
            found.append(out)
            break
        following, sent = follow(Standing(flat, came, since, last), person, until, rules.salt)
        over = person.goes_on(following.seen) if following else until
        to = rules.lifts.get(came.step)
        if goal and to is not None and since < goal.known <= over:
            # What is told late happens to them on the step that they are on by then.
            following, sent = Came(to, max(goal.at, came.at), "goal", goal.known), None
            over = goal.known
        if following is None or over > until:
            break
        found.append(following)
        last = sent or last
    return tuple(found), last


def _kept_from(rules: Rules, person: Person, came: Came) -> Came | None:
    """Where somebody is taken out by an exit rule before a step that reaches others, or the first
    step, is done for them: they are among those that it means by then."""
    done = person.done(came.seen)
    if done is None:
        return None
    out = [one.id for one in rules.exits if one.who and person.is_one(one.who, done)]
    return Came(END, done, out[0], done) if out else None


def _reached(goal: Goal | None, person: Person, way: Way, until: dt.datetime) -> Happened | None:
    """By what somebody reaches the goal, as it is first known of by a moment, within its days."""
    if goal is None:
        return None
    last = way.began + dt.timedelta(days=goal.days)
    found = [
        one
        for one in person.events
        if one.event == goal.event and way.began < one.at < last and way.since < one.known <= until
    ]
    return min(found, key=lambda one: (one.known, one.at), default=None)


def _taken_out(
    rules: Rules, person: Person, way: Way, goal: Happened | None, until: dt.datetime
) -> Came | None:
    """What first takes a person out up to a moment: the goal, something else that they did, or whom
    they are among when it is looked at; the goal counts first."""
    found = [
        (one.known, one.at, place, rule.id)
        for place, rule in enumerate(rules.exits)
        for one in person.events
        if rule.event and one.event == rule.event and one.at > way.began and one.known > way.since
    ]
    # At the moment at which the person or the itinerary became another it is looked at, too.
    found += [
        (look, look, place, rule.id)
        for place, rule in enumerate(rules.exits)
        for look in person.looks
        if look >= way.since and rule.who and person.is_one(rule.who, look)
    ]
    if goal and goal.known > way.since and rules.goal and rules.goal.ends:
        found.append((goal.known, goal.at, -1, "goal"))
    seen, at, _, ident = min(
        (one for one in found if one[0] <= until), default=(until, until, 0, "")
    )
    return Came(END, at, ident, seen) if ident else None
