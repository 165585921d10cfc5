"""An itinerary as a flat table of steps, by which people are moved: what comes after each one."""

import dataclasses
from typing import Any

from meadowrun.core.journeys.reading import Json, to_json
from meadowrun.core.journeys.steps import GoalStep, Itinerary, Parting, Step

#: Where somebody goes who has come to the end.
END = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Flat:
    """One step: what it is, and the step that follows, END for none."""

    step: Step
    next: str
    #: paths of the step, each with the step that comes first on it
    first_of: tuple[tuple[str, str], ...] = ()

    def values(self) -> Json:
        """The step without the steps inside, as JSON."""
        found: dict[str, Any] = to_json(Itinerary(steps=(self.step,)))["steps"][0]
        for path, (_, first) in zip(found.get("paths", ()), self.first_of, strict=True):
            path["steps"] = []
            path["first"] = first
        return found


def flatten(itinerary: Itinerary) -> dict[str, Flat]:
    """Every step by its id, in the order of the lines, but for those that are switched off. Paths
    meet again behind the step at which they part."""
    found: dict[str, Flat] = {}
    for lane in itinerary.on().lanes:
        _flatten(lane.steps, END, found)
    return found


def first_steps(itinerary: Itinerary) -> dict[str, str]:
    """The step that everybody begins with in each lane; END where there is none."""
    return {lane.id: lane.steps[0].id if lane.steps else END for lane in itinerary.on().lanes}


def lifts(itinerary: Itinerary) -> dict[str, str]:
    """The steps from which whoever reaches the goal is taken past those between → the step of the
    goal in the same lane."""
    found: dict[str, str] = {}
    for lane in itinerary.on().lanes:
        goals = [place for place, one in enumerate(lane.steps) if isinstance(one, GoalStep)]
        if goals:
            before = Itinerary(steps=lane.steps[: goals[0]])
            found |= {one.id: lane.steps[goals[0]].id for one, _, _ in before.walk()}
    return found


def _flatten(steps: tuple[Step, ...], after: str, found: dict[str, Flat]) -> None:
    for place, one in enumerate(steps):
        following = steps[place + 1].id if place + 1 < len(steps) else after
        if one.kind in ("exit", "jump"):
            following = END
        if not isinstance(one, Parting):
            found[one.id] = Flat(one, following)
            continue
        first = tuple(
            (path.id, path.steps[0].id if path.steps else following) for path in one.paths
        )
        found[one.id] = Flat(one, following, first)
        for path in one.paths:
            _flatten(path.steps, following, found)
