"""What a rehearsal shows that an author should know: where people are at once, who gets too much,
what colleagues get, and how long a random split needs."""

import dataclasses

from meadowrun.core.journeys.steps import Itinerary, SplitStep
from meadowrun.core.journeys.words import Names, line
from meadowrun.core.results.worth import least_gain
from meadowrun.journeys.imagining import Rehearsed

#: A gain in the share that reaches the goal that a split should show: five points.
WORTH_KNOWING = 0.05


@dataclasses.dataclass(frozen=True, slots=True)
class Deciding:
    """How long a random split needs: what it is, after how many days enough people have come to see
    whether one path brings WORTH_KNOWING more to the goal, None: not in the imagined time; and the
    least gain that those at the end show, a share, None: none. Each of them then has the days of
    the goal."""

    what: str
    days: int | None
    least: float | None


def piled(
    rehearsed: Rehearsed, called: dict[str, str], itinerary: Itinerary, names: Names
) -> tuple[str, int, int] | None:
    """The step on which most people are at the end of a day: what it is, how many, and the day."""
    best: tuple[str, int, int] | None = None
    for step, _, _ in itinerary.walk():
        here = rehearsed.found.here.get(step.id)
        if here is None or not len(here):
            continue
        day, most = int(here.argmax()), round(float(here.max()))
        if most and (best is None or most > best[1]):
            words = line(step, names)
            best = (f"{called[step.id]} · {words.kind} {words.what}", most, day)
    return best


def tasks(rehearsed: Rehearsed) -> tuple[int, int, int] | None:
    """How many tasks colleagues get in all, how many on the day with most, and which day that is;
    None where there are none."""
    found = rehearsed.found.tasks
    total = round(float(found.sum()))
    first = rehearsed.first_day
    return (total, round(float(found.max())), int(found.argmax()) - first) if total else None


def crowded(rehearsed: Rehearsed, many: int) -> tuple[int, bool] | None:
    """The number of messages within a week that is to be told: `many`, where somebody gets so many
    at least (true), else the most that anybody gets; None where nobody gets any."""
    most = len(rehearsed.found.in_a_week)
    return (min(most, many), most >= many) if most else None


def splits(
    rehearsed: Rehearsed, called: dict[str, str], itinerary: Itinerary, names: Names
) -> list[Deciding]:
    """How long each random split needs, by its two smallest paths and by the share that reaches
    the goal; nothing where there is no goal."""
    found = rehearsed.found
    if itinerary.goal is None or not found.entered.middle:
        return []
    usual = min(1.0, found.goal.middle / found.entered.middle)
    told = []
    for step, _, _ in itinerary.walk():
        if not isinstance(step, SplitStep):
            continue
        groups = [found.chose[path.id] for path in step.paths if path.id in found.chose]
        if len(groups) < len(step.paths):
            # Nobody comes there.
            continue
        first = rehearsed.first_day
        by_day = [
            sorted(round(float(one[day])) for one in groups)[:2] for day in range(len(groups[0]))
        ]
        gains = [least_gain(usual, one, other) for one, other in by_day]
        days = next(
            (
                day - first
                for day, gain in enumerate(gains)
                if gain is not None and gain <= WORTH_KNOWING
            ),
            None,
        )
        words = line(step, names)
        what = f"{called[step.id]} · {words.kind} {words.what}"
        told.append(Deciding(what, days, gains[-1]))
    return told
