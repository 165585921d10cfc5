"""Where everything of a journey's map lies: a river along a ruler of days, parted at its paths,
with a mark for each step and labels that never lie upon each other.

Lengths are in pixels of the drawing. Nothing is drawn here: `journeys/map.py` does.
"""

import dataclasses
from collections.abc import Callable

from meadowrun.core.journeys.steps import (
    ExitStep,
    Itinerary,
    JumpStep,
    Parting,
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
    top: float = 0
    marks: list[Mark] = dataclasses.field(default_factory=list)
    streams: list[Stream] = dataclasses.field(default_factory=list)
    days: dict[int, float] = dataclasses.field(default_factory=dict)


def lay_out(itinerary: Itinerary, flow: Flow) -> Map:
    """The map of an itinerary. Each step has a column of its own on its path; paths lie below each
    other, the longest label fits into a column, and labels of neighbours do not share a place.
    Lanes lie below each other, each under days of its own."""
    drawing, rulers, width = _Drawing(flow), [], 0.0
    for lane in itinerary.lanes:
        if not lane.steps:
            continue
        drawing.days = {}
        entered = flow.came(lane.steps[0].id)
        column, _ = _steps(drawing, lane.steps, 0, 0, 0.0, 0, entered, ends=True)
        right = _LEFT + max(column, 1) * COLUMN + _RIGHT
        foot = drawing.top + _TOP + _rows(lane.steps) * ROW
        days = tuple(Day(_x(one), passed) for one, passed in sorted(drawing.days.items()))
        rulers.append(Ruler(lane.id, drawing.top, foot, right, days))
        width, drawing.top = max(width, right), foot
    return Map(width, drawing.top, tuple(drawing.marks), tuple(drawing.streams), tuple(rulers))


def _x(column: float) -> float:
    return _LEFT + column * COLUMN


def _y(drawing: _Drawing, row: float) -> float:
    return drawing.top + _TOP + row * ROW + ROW / 2


def _rows(steps: tuple[Step, ...]) -> int:
    """How many paths lie below each other at the widest place."""
    return max([1, *(_rows_of(step) for step in steps)])


def _rows_of(step: Step) -> int:
    if not isinstance(step, Parting):
        return 1
    return sum(_rows(path.steps) for path in step.paths)


def _columns(steps: tuple[Step, ...]) -> int:
    """How many columns some steps take: one more where their last paths have to meet first."""
    meets = bool(steps) and isinstance(steps[-1], Parting)
    return sum(_columns_of(step) for step in steps) + meets


def _columns_of(step: Step) -> int:
    if not isinstance(step, Parting):
        return 1
    return 1 + max(1, *(_columns(path.steps) for path in step.paths))


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
        drawing.marks.append(Mark(step.id, step.kind, x, y, came, _label(x, y)))
        minutes += minutes_of(step)
        if isinstance(step, (ExitStep, JumpStep)):
            column += 1
            continue
        last = place == len(steps) - 1
        if isinstance(step, Parting):
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
    return drawing.flow.on(steps[place].id)


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
    wide = max(1, *(_columns(path.steps) for path in step.paths))
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
            stays = _last_of(drawing, path.steps, people)
            marked = bool(path.steps) and not isinstance(path.steps[-1], Parting)
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
        beside += _rows(path.steps)
    return end, latest


def _last_of(drawing: _Drawing, steps: tuple[Step, ...], people: int) -> int:
    """How many come out of a path at its end."""
    if not steps:
        return people
    last = steps[-1]
    if isinstance(last, Parting):
        return sum(
            _last_of(drawing, path.steps, drawing.flow.by(last.id, path.id))
            for path in last.paths
            if not any(isinstance(one, (ExitStep, JumpStep)) for one in path.steps)
        )
    return _following(drawing, (last,), 0, people)


def _label(x: float, y: float) -> Box:
    """The label of a step lies above the river; below it is room for the name of a path."""
    width = MOST_LETTERS * _LETTER
    return Box(x - width / 2, y - WIDEST / 2 - 2 * _LINE - 4, width, 2 * _LINE)
