"""Where everything of a journey's map lies: a river along a ruler of days, parted at its paths,
with a mark for each step and labels that never lie upon each other. A step at which it parts can be
folded: then it is one mark that stands for all the steps of its paths.

Lengths are in pixels of the drawing. Nothing is drawn here: `journeys/map.py` does.
"""

import dataclasses
from collections.abc import Callable, Collection, Iterator

from meadowrun.core.journeys.steps import (
    ExitStep,
    Itinerary,
    JumpStep,
    Parting,
    Path,
    Step,
    WaitForStep,
    WaitStep,
)

#: The narrowest distance between two marks on one path, which a label of two lines fits into.
COLUMN = 128
#: The height of a path with its labels above or below.
ROW = 88
#: How wide the river is where everyone is on it, and where hardly anybody is.
WIDEST, NARROWEST = 34.0, 2.5
_LEFT, _RIGHT = 64, 76
_TOP = 78
#: An average letter, and a line of text.
_LETTER, _LINE = 6.4, 14
#: How many letters of a name are shown.
MOST_LETTERS = 19
#: The size of what folds and unfolds a step, below its mark.
_FOLD = 18
#: A map with more columns than this, or more paths below each other, is folded at first.
MOST_COLUMNS, MOST_ROWS = 18, 6


@dataclasses.dataclass(frozen=True, slots=True)
class Box:
    """The place of a label: its left upper corner, and its size."""

    x: float
    y: float
    width: float
    height: float

    def meets(self, other: "Box") -> bool:
        """Whether two labels lie upon each other."""
        return (
            self.x < other.x + other.width
            and other.x < self.x + self.width
            and self.y < other.y + other.height
            and other.y < self.y + self.height
        )


@dataclasses.dataclass(frozen=True, slots=True)
class Mark:
    """One step on the map: where it is, its label, and how many came to it."""

    id: str
    kind: str
    x: float
    y: float
    people: int
    label: Box
    #: where it is folded or unfolded; None where it has no paths with steps
    fold: Box | None = None
    #: folded: the steps of its paths, which are not on the map
    inside: tuple[str, ...] = ()


@dataclasses.dataclass(frozen=True, slots=True)
class Stream:
    """A piece of the river between two points: how many went along it, and whether it ends the
    journey."""

    x1: float
    y1: float
    x2: float
    y2: float
    people: int
    #: 0 for the main path, then one for each path beside it
    tone: int
    #: the path, where one begins here, and the place of its name
    path: str = ""
    label: Box | None = None
    #: where it changes its row: behind the step at which it parts, or before the next one
    bends_late: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Day:
    """A line of a ruler: the days that have passed by a step, at the least."""

    x: float
    minutes: float


@dataclasses.dataclass(frozen=True, slots=True)
class Ruler:
    """The days above one lane, from its top to its foot."""

    lane: str
    top: float
    foot: float
    #: where the longest path ends
    right: float
    days: tuple[Day, ...]


@dataclasses.dataclass(frozen=True)
class Map:
    """The whole map."""

    width: float
    height: float
    marks: tuple[Mark, ...]
    streams: tuple[Stream, ...]
    #: one for each lane that has steps
    rulers: tuple[Ruler, ...]

    def width_of(self, people: int, most: int) -> float:
        """How wide the river is with so many people on it."""
        if not most:
            return WIDEST / 2
        return max(NARROWEST, WIDEST * people / most)


@dataclasses.dataclass(frozen=True)
class Flow:
    """How many people come to a step, go on from it by a path, and go on from it at all rather than
    leave; 0 where nobody did yet."""

    came: Callable[[str], int]
    by: Callable[[str, str], int]
    on: Callable[[str], int]


def minutes_of(step: Step) -> float:
    """How long a step holds people at the most, in minutes; to an hour of the day counts as half a
    day."""
    if isinstance(step, WaitStep):
        return step.span.length().total_seconds() / 60 + (
            720 if step.at is not None and step.span.unit in ("minute", "hour") else 0
        )
    if isinstance(step, WaitForStep):
        return step.span.length().total_seconds() / 60
    return 0.0


@dataclasses.dataclass
class _Drawing:
    """What was laid out so far, and how far down its lanes begin."""

    flow: Flow
    folded: Collection[str] = ()
    top: float = 0
    marks: list[Mark] = dataclasses.field(default_factory=list)
    streams: list[Stream] = dataclasses.field(default_factory=list)
    days: dict[int, float] = dataclasses.field(default_factory=dict)


def foldable(itinerary: Itinerary) -> list[Parting]:
    """The steps that can be folded: those of whose paths at least one has a step."""
    return [
        step
        for step, _, _ in itinerary.walk()
        if isinstance(step, Parting) and any(path.steps for path in step.paths)
    ]


def folded_at_first(itinerary: Itinerary) -> frozenset[str]:
    """What is folded of a large map until somebody says otherwise: the innermost first, of these
    those that hold most steps, until the map is small enough to be read."""
    depths = {step.id: depth for step, depth, _ in itinerary.walk()}
    rest = sorted(
        foldable(itinerary), key=lambda step: (-depths[step.id], -len(list(_inside(step))))
    )
    folded: set[str] = set()
    for step in rest:
        widest = max(_columns(lane.steps, folded) for lane in itinerary.lanes)
        tallest = sum(_rows(lane.steps, folded) for lane in itinerary.lanes)
        if widest <= MOST_COLUMNS and tallest <= MOST_ROWS:
            break
        folded.add(step.id)
    return frozenset(folded)


def lay_out(itinerary: Itinerary, flow: Flow, folded: Collection[str] = ()) -> Map:
    """The map of an itinerary, with the steps of some ids folded. Each step has a column of its own
    on its path; paths lie below each other, the longest label fits into a column, and labels of
    neighbours do not share a place. Lanes lie below each other, each under days of its own."""
    drawing, rulers, width = _Drawing(flow, folded), [], 0.0
    for lane in itinerary.lanes:
        if not lane.steps:
            continue
        drawing.days = {}
        entered = flow.came(lane.steps[0].id)
        column, _ = _steps(drawing, lane.steps, 0, 0, 0.0, 0, entered, ends=True)
        right = _LEFT + max(column, 1) * COLUMN + _RIGHT
        foot = drawing.top + _TOP + _rows(lane.steps, folded) * ROW
        days = tuple(Day(_x(one), passed) for one, passed in sorted(drawing.days.items()))
        rulers.append(Ruler(lane.id, drawing.top, foot, right, days))
        width, drawing.top = max(width, right), foot
    return Map(width, drawing.top, tuple(drawing.marks), tuple(drawing.streams), tuple(rulers))


def _x(column: float) -> float:
    return _LEFT + column * COLUMN


def _y(drawing: _Drawing, row: float) -> float:
    return drawing.top + _TOP + row * ROW + ROW / 2


def _shown(step: Step, folded: Collection[str]) -> tuple[Path, ...]:
    """The paths of a step that are on the map; none where it is folded."""
    return step.paths if isinstance(step, Parting) and step.id not in folded else ()


def _inside(step: Parting) -> Iterator[Step]:
    """All steps of the paths of a step, also those in paths of theirs."""
    for path in step.paths:
        for one in path.steps:
            yield one
            if isinstance(one, Parting):
                yield from _inside(one)


def _rows(steps: tuple[Step, ...], folded: Collection[str]) -> int:
    """How many paths lie below each other at the widest place."""
    return max([1, *(_rows_of(step, folded) for step in steps)])


def _rows_of(step: Step, folded: Collection[str]) -> int:
    return max(1, sum(_rows(path.steps, folded) for path in _shown(step, folded)))


def _columns(steps: tuple[Step, ...], folded: Collection[str]) -> int:
    """How many columns some steps take: one more where their last paths have to meet first."""
    meets = bool(steps) and bool(_shown(steps[-1], folded))
    return sum(_columns_of(step, folded) for step in steps) + meets


def _columns_of(step: Step, folded: Collection[str]) -> int:
    paths = _shown(step, folded)
    return 1 + max(1, *(_columns(path.steps, folded) for path in paths)) if paths else 1


def _longest(steps: tuple[Step, ...]) -> float:
    """How long some steps hold people at the most, by the longest of their paths, in minutes."""
    return sum(
        minutes_of(step)
        + (max(_longest(path.steps) for path in step.paths) if isinstance(step, Parting) else 0)
        for step in steps
    )


def _steps(
    drawing: _Drawing,
    steps: tuple[Step, ...],
    column: int,
    row: int,
    minutes: float,
    tone: int,
    people: int,
    ends: bool,
) -> tuple[int, float]:
    """Lays steps out from a column on; gives the column and the time behind them. What leads on
    from the last of them is drawn where they end the journey; else by whoever goes on."""
    for place, step in enumerate(steps):
        x, y = _x(column), _y(drawing, row)
        came = drawing.flow.came(step.id)
        drawing.days.setdefault(column, minutes)
        drawing.days[column] = max(drawing.days[column], minutes)
        drawing.marks.append(_mark(step, x, y, came, drawing.folded))
        shown = _shown(step, drawing.folded)
        minutes += minutes_of(step) if shown else _longest((step,))
        if isinstance(step, (ExitStep, JumpStep)):
            column += 1
            continue
        last = place == len(steps) - 1
        if isinstance(step, Parting) and shown:
            column, minutes = _paths(drawing, step, column, row, minutes, tone, came)
        else:
            following = _following(drawing, steps, place, came)
            if ends or not last:
                drawing.streams.append(Stream(x, y, _x(column + 1), y, following, tone))
            column += 1
    return column, minutes


def _following(drawing: _Drawing, steps: tuple[Step, ...], place: int, came: int) -> int:
    """How many are on the river behind a step."""
    if place + 1 < len(steps):
        return drawing.flow.came(steps[place + 1].id)
    return _out_of(drawing, steps, came)


def _paths(
    drawing: _Drawing,
    step: Parting,
    column: int,
    row: int,
    minutes: float,
    tone: int,
    came: int,
) -> tuple[int, float]:
    """Lays the paths of a step out below each other, and has them meet again behind the longest."""
    wide = max(1, *(_columns(path.steps, drawing.folded) for path in step.paths))
    end, latest = column + 1 + wide, minutes
    beside = row
    for number, path in enumerate(step.paths):
        own = tone if number == 0 else (tone + number - 1) % 3 + 1
        people = drawing.flow.by(step.id, path.id)
        x1, y1, x2, y2 = _x(column), _y(drawing, row), _x(column + 1), _y(drawing, beside)
        label = Box(x2 - COLUMN + 20, y2 + WIDEST / 2 + 3, COLUMN - 30, _LINE)
        drawing.streams.append(Stream(x1, y1, x2, y2, people, own, path.id, label))
        behind, took = _steps(
            drawing, path.steps, column + 1, beside, minutes, own, people, ends=False
        )
        latest = max(latest, took)
        if not any(isinstance(one, (ExitStep, JumpStep)) for one in path.steps):
            stays = _out_of(drawing, path.steps, people)
            marked = bool(path.steps) and not _shown(path.steps[-1], drawing.folded)
            since = _x(behind - 1 if marked else behind)
            drawing.streams.append(
                Stream(
                    since,
                    _y(drawing, beside),
                    _x(end),
                    _y(drawing, row),
                    stays,
                    own,
                    bends_late=True,
                )
            )
        beside += _rows(path.steps, drawing.folded)
    return end, latest


def _out_of(drawing: _Drawing, steps: tuple[Step, ...], people: int) -> int:
    """How many of the people on a path come out of it at its end."""
    if not steps:
        return people
    last = steps[-1]
    if isinstance(last, Parting):
        return sum(
            _out_of(drawing, path.steps, drawing.flow.by(last.id, path.id))
            for path in last.paths
            if not any(isinstance(one, (ExitStep, JumpStep)) for one in path.steps)
        )
    return drawing.flow.on(last.id)


def _mark(step: Step, x: float, y: float, came: int, folded: Collection[str]) -> Mark:
    """The mark of a step, with its label, and where it can be folded."""
    label = _label(x, y)
    if not isinstance(step, Parting) or not any(path.steps for path in step.paths):
        return Mark(step.id, step.kind, x, y, came, label)
    fold = Box(x - _FOLD / 2, y + WIDEST / 2 + 3, _FOLD, _FOLD)
    inside = tuple(one.id for one in _inside(step)) if step.id in folded else ()
    return Mark(step.id, step.kind, x, y, came, label, fold, inside)


def _label(x: float, y: float) -> Box:
    """The label of a step lies above the river; below it is room for the name of a path."""
    width = MOST_LETTERS * _LETTER
    return Box(x - width / 2, y - WIDEST / 2 - 2 * _LINE - 4, width, 2 * _LINE)
