"""Small changes of an itinerary, each giving a new one: steps are added, changed, moved and
removed."""

import dataclasses
import functools
import itertools
from collections.abc import Callable, Mapping
from typing import Any

from meadowrun.core.journeys.reading import MOST_LANES, ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import (
    BranchStep,
    Door,
    ExitRule,
    Goal,
    Itinerary,
    JumpStep,
    Lane,
    Parting,
    Path,
    SplitStep,
    Start,
    Step,
    WaitForStep,
)
from meadowrun.core.language import Wording

#: What stands for the steps of the first lane outside of all paths, where a path is asked for;
#: those of another lane go by its id.
ROOT = ""
Steps = tuple[Step, ...]


def new_ids(itinerary: Itinerary, count: int) -> list[str]:
    """Ids that no step and no path of an itinerary has or had: they only grow."""
    used = [itinerary.ids, *(_number(one.id) for one in itinerary.starts)]
    used += [_number(one.id) for one in itinerary.beside]
    used += [_number(one.id) for one in itinerary.exits]
    for step, _, _ in itinerary.walk():
        used.append(_number(step.id))
        if isinstance(step, Parting):
            used += [_number(path.id) for path in step.paths]
    return [f"s{max(used) + place}" for place in range(1, count + 1)]


def _number(ident: str) -> int:
    return int(ident[1:]) if ident[:1] == "s" and ident[1:].isdecimal() else 0


def add(itinerary: Itinerary, step: Step, path: str = ROOT, place: int | None = None) -> Itinerary:
    """Puts a step into a path at a place, at its end unless told otherwise; it and its paths get
    ids of their own. Raises ItineraryError for a path that is not there."""
    made, itinerary = _named(itinerary, step)

    def put(steps: Steps) -> Steps:
        where = len(steps) if place is None else place
        return (*steps[:where], made, *steps[where:])

    return _in_path(itinerary, path, put)


def _named(itinerary: Itinerary, step: Step) -> tuple[Step, Itinerary]:
    """A step with ids that nothing else has, and the itinerary that knows of them."""
    before, given = _number(new_ids(itinerary, 1)[0]), itertools.count()

    def new() -> str:
        return f"s{before + next(given)}"

    def name(one: Step) -> Step:
        if isinstance(one, Parting):
            ident = new()
            paths = tuple(
                dataclasses.replace(
                    path, id=new(), steps=tuple(name(inner) for inner in path.steps)
                )
                for path in one.paths
            )
            return dataclasses.replace(one, id=ident, paths=paths)
        return dataclasses.replace(one, id=new())

    made = name(step)
    return made, dataclasses.replace(itinerary, ids=before + next(given) - 1)


def add_all(itinerary: Itinerary, steps: Steps, path: str = ROOT) -> Itinerary:
    """Puts several steps at the end of a path, each with ids of its own. Raises ItineraryError."""
    for step in steps:
        itinerary = add(itinerary, step, path)
    return checked(itinerary)


def duplicate(itinerary: Itinerary, ident: str) -> Itinerary:
    """Puts a step, with all that is in it, behind itself once more. Raises ItineraryError."""
    step = itinerary.step(ident)
    if step is None:
        raise ItineraryError(Wording("This step is not there any more."))
    made, itinerary = _named(itinerary, step)

    def copied(steps: Steps) -> Steps:
        return tuple(each for one in steps for each in ((one, made) if one.id == ident else (one,)))

    return checked(_everywhere(itinerary, copied))


def run_from(itinerary: Itinerary, ident: str) -> Steps:
    """A step and those that follow it in its path; nothing where it is not there."""
    rows = [lane.steps for lane in itinerary.lanes]
    for step, _, _ in itinerary.walk():
        if isinstance(step, Parting):
            rows += [path.steps for path in step.paths]
    for steps in rows:
        for place, one in enumerate(steps):
            if one.id == ident:
                return steps[place:]
    return ()


def remove(itinerary: Itinerary, ident: str) -> Itinerary:
    """Takes a step away, with all that is in it."""
    return _everywhere(itinerary, lambda steps: tuple(one for one in steps if one.id != ident))


def move(itinerary: Itinerary, ident: str, by: int) -> Itinerary:
    """Moves a step up (-1) or down (1) among the steps of its path, and past the ends of it out of
    the path: before or behind the step at which it parts; past those of a lane into the next."""

    def shifted(steps: Steps) -> Steps:
        place = next((n for n, one in enumerate(steps) if one.id == ident), None)
        if place is None or not 0 <= place + by < len(steps):
            return steps
        rest = [one for one in steps if one.id != ident]
        rest.insert(place + by, steps[place])
        return tuple(rest)

    moved = _everywhere(itinerary, shifted)
    if moved != itinerary:
        return moved
    return _out_of_path(itinerary, ident, by)


def _out_of_path(itinerary: Itinerary, ident: str, by: int) -> Itinerary:
    step = itinerary.step(ident)
    outer = next(
        (
            one
            for one, _, _ in itinerary.walk()
            if isinstance(one, Parting)
            and any(inner.id == ident for path in one.paths for inner in path.steps)
        ),
        None,
    )
    if step is None:
        return itinerary
    if outer is None:
        return _into_lane(itinerary, step, by)

    def beside(steps: Steps) -> Steps:
        place = next((n for n, one in enumerate(steps) if one.id == outer.id), None)
        if place is None:
            return steps
        where = place if by < 0 else place + 1
        return (*steps[:where], step, *steps[where:])

    return _everywhere(remove(itinerary, ident), beside)


def _into_lane(itinerary: Itinerary, step: Step, by: int) -> Itinerary:
    """Moves a step to the end of the lane above its own, or to the beginning of the one below."""
    lanes = [lane.id for lane in itinerary.lanes]
    mine = next(lane.id for lane in itinerary.lanes if step in lane.steps)
    place = lanes.index(mine) + by
    if not 0 <= place < len(lanes):
        return itinerary
    bare = remove(itinerary, step.id)
    return bare.with_steps(lambda steps: (*steps, step) if by < 0 else (step, *steps), lanes[place])


def add_lane(itinerary: Itinerary, name: str) -> Itinerary:
    """With another lane below the others, without a start or a step. Raises ItineraryError."""
    if len(itinerary.lanes) >= MOST_LANES:
        raise ItineraryError(Wording("A journey has at most %(most)s lanes.", most=MOST_LANES))
    made = Lane(new_ids(itinerary, 1)[0], (), " ".join(name.split()))
    return checked(
        dataclasses.replace(itinerary, beside=(*itinerary.beside, made), ids=_number(made.id))
    )


def name_lane(itinerary: Itinerary, ident: str, name: str) -> Itinerary:
    """With another name of a lane. Raises ItineraryError."""
    name = " ".join(name.split())
    if not ident:
        return checked(dataclasses.replace(itinerary, lane_name=name))
    lanes = tuple(
        dataclasses.replace(one, name=name) if one.id == ident else one for one in itinerary.beside
    )
    return checked(dataclasses.replace(itinerary, beside=lanes))


def remove_lane(itinerary: Itinerary, ident: str) -> Itinerary:
    """Without a lane, its starts, its steps, and the jumps that lead into it; the first one stays.
    Raises ItineraryError."""
    if not ident:
        raise ItineraryError(Wording("The first lane stays. Its steps can be removed."))
    leads = [
        step.id
        for step, _, _ in itinerary.walk()
        if isinstance(step, JumpStep) and not step.journey and step.lane == ident
    ]
    bare = dataclasses.replace(
        itinerary,
        starts=tuple(one for one in itinerary.starts if one.lane != ident),
        beside=tuple(one for one in itinerary.beside if one.id != ident),
    )
    return functools.reduce(remove, leads, bare)


def nest(itinerary: Itinerary, ident: str) -> Itinerary:
    """Moves a step into the first path of the step before it, at its end. Raises ItineraryError
    where no paths part there."""

    def into(steps: Steps) -> Steps:
        place = next((n for n, one in enumerate(steps) if one.id == ident), None)
        if not place:
            return steps
        before = steps[place - 1]
        if not isinstance(before, Parting):
            raise ItineraryError(Wording("The step before this one has no paths."))
        first = before.paths[0]
        first = dataclasses.replace(first, steps=(*first.steps, steps[place]))
        parted = dataclasses.replace(before, paths=(first, *before.paths[1:]))
        return (*steps[: place - 1], parted, *steps[place + 1 :])

    return _everywhere(itinerary, into)


def set_values(itinerary: Itinerary, ident: str, **values: Any) -> Itinerary:
    """Sets some of what a step or a path says. Raises ItineraryError where that cannot be."""

    def changed(steps: Steps) -> Steps:
        return tuple(_changed(one, ident, values) for one in steps)

    return checked(_everywhere(itinerary, changed))


def switch(itinerary: Itinerary, ident: str) -> Itinerary:
    """Switches a step off, so that people pass it by, or on again. Raises ItineraryError."""
    step = itinerary.step(ident)
    return set_values(itinerary, ident, off=not step.off) if step else itinerary


def _changed(step: Step, ident: str, values: dict[str, Any]) -> Step:
    if step.id == ident:
        return dataclasses.replace(step, **values)
    if isinstance(step, Parting) and any(path.id == ident for path in step.paths):
        paths = tuple(
            dataclasses.replace(path, **values) if path.id == ident else path for path in step.paths
        )
        return dataclasses.replace(step, paths=paths)
    return step


def add_path(itinerary: Itinerary, ident: str, path: Path) -> Itinerary:
    """Adds a way on from a step, before the one for everyone else. Of a random split all get equal
    shares."""
    path = dataclasses.replace(path, id=new_ids(itinerary, 1)[0])
    itinerary = dataclasses.replace(itinerary, ids=_number(path.id))

    def added(steps: Steps) -> Steps:
        return tuple(
            dataclasses.replace(one, paths=_with(one, path))
            if isinstance(one, Parting) and one.id == ident
            else one
            for one in steps
        )

    return checked(_everywhere(itinerary, added))


def remove_path(itinerary: Itinerary, ident: str) -> Itinerary:
    """Takes a way on away, with its steps; two are left at least, and the one for everyone else
    always. Raises ItineraryError."""

    def without(steps: Steps) -> Steps:
        found = []
        for one in steps:
            if isinstance(one, Parting) and any(path.id == ident for path in one.paths):
                if len(one.paths) == 2 or (
                    not isinstance(one, SplitStep) and one.paths[-1].id == ident
                ):
                    raise ItineraryError(Wording("This path stays: it is for everyone else."))
                kept = tuple(path for path in one.paths if path.id != ident)
                paths = equal(kept) if isinstance(one, SplitStep) else kept
                one = dataclasses.replace(one, paths=paths)
            found.append(one)
        return tuple(found)

    return _everywhere(itinerary, without)


def _with(step: Parting, path: Path) -> tuple[Path, ...]:
    if isinstance(step, SplitStep):
        return equal((*step.paths, path))
    return (*step.paths[:-1], path, step.paths[-1])


def equal(paths: tuple[Path, ...]) -> tuple[Path, ...]:
    """Paths with equal shares; what cannot be shared equally goes to the first ones."""
    each, rest = divmod(100, len(paths))
    return tuple(
        dataclasses.replace(path, percent=each + (place < rest)) for place, path in enumerate(paths)
    )


def checked(itinerary: Itinerary) -> Itinerary:
    """The same itinerary. Raises ItineraryError where it could not be read again."""
    return from_json(to_json(itinerary))


def _everywhere(itinerary: Itinerary, change: Callable[[Steps], Steps]) -> Itinerary:
    """Changes the steps of every path, the inner ones first."""

    def inside(steps: Steps) -> Steps:
        return change(
            tuple(
                dataclasses.replace(
                    one,
                    paths=tuple(
                        dataclasses.replace(path, steps=inside(path.steps)) for path in one.paths
                    ),
                )
                if isinstance(one, (BranchStep, WaitForStep, SplitStep))
                else one
                for one in steps
            )
        )

    return itinerary.with_steps(inside)


def _in_path(itinerary: Itinerary, path: str, change: Callable[[Steps], Steps]) -> Itinerary:
    """Changes the steps of one path, or of one lane. Raises ItineraryError where there is none."""
    if any(lane.id == path for lane in itinerary.lanes):
        return itinerary.with_steps(change, path)
    met = False

    def inside(steps: Steps) -> Steps:
        nonlocal met
        found = []
        for one in steps:
            if isinstance(one, Parting) and any(way.id == path for way in one.paths):
                met = True
                one = dataclasses.replace(
                    one,
                    paths=tuple(
                        dataclasses.replace(way, steps=change(way.steps)) if way.id == path else way
                        for way in one.paths
                    ),
                )
            found.append(one)
        return tuple(found)

    changed = _everywhere(itinerary, inside)
    if not met:
        raise ItineraryError(Wording("This path is not there any more."))
    return changed


def add_start(itinerary: Itinerary, start: Start) -> Itinerary:
    """With something more that brings people in. Raises ItineraryError."""
    made = dataclasses.replace(start, id=new_ids(itinerary, 1)[0])
    return checked(
        dataclasses.replace(itinerary, starts=(*itinerary.starts, made), ids=_number(made.id))
    )


def set_start(itinerary: Itinerary, ident: str, start: Start) -> Itinerary:
    """With something else in the place of one of the things that bring people in, into the same
    lane. Raises ItineraryError where it is not there any more."""
    if not any(one.id == ident for one in itinerary.starts):
        raise ItineraryError(Wording("What is to be changed is not there any more."))
    starts = tuple(
        dataclasses.replace(start, id=ident, lane=one.lane) if one.id == ident else one
        for one in itinerary.starts
    )
    return checked(dataclasses.replace(itinerary, starts=starts))


def remove_start(itinerary: Itinerary, ident: str) -> Itinerary:
    """Without one of the things that bring people in."""
    kept = tuple(one for one in itinerary.starts if one.id != ident)
    return dataclasses.replace(itinerary, starts=kept)


def with_again(itinerary: Itinerary, again: str, days: int, subject: str = "") -> Itinerary:
    """With how often one person can be in it, and whether several times at once. Raises
    ItineraryError."""
    return checked(dataclasses.replace(itinerary, again=again, again_days=days, subject=subject))


def with_door(itinerary: Itinerary, door: Door) -> Itinerary:
    """With how many come in, and who does not. Raises ItineraryError."""
    return checked(dataclasses.replace(itinerary, door=door))


def with_goal(itinerary: Itinerary, goal: Goal | None) -> Itinerary:
    """With another goal, or none."""
    return dataclasses.replace(itinerary, goal=goal)


def add_exit(itinerary: Itinerary, rule: ExitRule) -> Itinerary:
    """With something more that takes people out at once. Raises ItineraryError."""
    made = dataclasses.replace(rule, id=new_ids(itinerary, 1)[0])
    return checked(
        dataclasses.replace(itinerary, exits=(*itinerary.exits, made), ids=_number(made.id))
    )


def with_withdrawn(itinerary: Itinerary, stays: bool) -> Itinerary:
    """Whether whoever withdraws all consent goes on all the same."""
    return dataclasses.replace(itinerary, stays=stays)


def remove_exit(itinerary: Itinerary, ident: str) -> Itinerary:
    """Without one of the things that take people out."""
    kept = tuple(rule for rule in itinerary.exits if rule.id != ident)
    return dataclasses.replace(itinerary, exits=kept)


def set_shares(itinerary: Itinerary, ident: str, shares: Mapping[str, int]) -> Itinerary:
    """Sets the shares of a random split, in percent, by path. Raises ItineraryError where they are
    not 100 together."""

    def changed(steps: Steps) -> Steps:
        return tuple(
            dataclasses.replace(
                one,
                paths=tuple(
                    dataclasses.replace(path, percent=shares[path.id]) for path in one.paths
                ),
            )
            if isinstance(one, SplitStep) and one.id == ident
            else one
            for one in steps
        )

    return checked(_everywhere(itinerary, changed))
