"""An itinerary as a diagram of process notation: what stands in it, what leads where, and where
each thing is drawn. `bpmn.py` writes it down."""

import dataclasses
from collections.abc import Iterator

from meadowrun.core.journeys.steps import (
    ExitStep,
    GoalStep,
    Itinerary,
    JumpStep,
    Lane,
    MessageStep,
    Parting,
    Path,
    Step,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
)
from meadowrun.core.journeys.words import Names, line, path_line, start_words
from meadowrun.core.language import Wording

#: Widths and heights by kind of element, the distance of two columns, and of two rows, in the units
#: of the diagram.
SIZES = {"event": (36, 36), "gateway": (50, 50), "task": (110, 80)}
COLUMN, ROW = 160, 120
_UNITS = {"minute": "PT{}M", "hour": "PT{}H", "day": "P{}D", "week": "P{}W"}


@dataclasses.dataclass(frozen=True, slots=True)
class Node:
    """One thing in the diagram: its id, the name of its element, what it says, and its middle."""

    id: str
    element: str
    name: str
    x: int
    y: int
    #: of a timer how long it waits: a duration of ISO 8601, else until when in words
    duration: str = ""
    until: str = ""
    #: of something that is waited for, what that is
    message: str = ""

    @property
    def size(self) -> tuple[int, int]:
        """Its width and height."""
        if self.element.endswith("Gateway"):
            return SIZES["gateway"]
        return SIZES["event" if self.element.endswith("Event") else "task"]


@dataclasses.dataclass(frozen=True, slots=True)
class Link:
    """What leads from one node to another: in words for whom, and whether it is for all who go
    nowhere else."""

    id: str
    source: str
    target: str
    said: str = ""
    otherwise: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class _Way:
    """What leads on from a node, and does not lead anywhere yet."""

    source: str
    said: str = ""
    otherwise: bool = False


@dataclasses.dataclass(frozen=True, slots=True)
class Process:
    """One lane as a process of its own."""

    id: str
    name: str
    nodes: tuple[Node, ...]
    links: tuple[Link, ...]


def processes(itinerary: Itinerary, names: Names) -> Iterator[Process]:
    """Each lane of an itinerary, as people walk it, one below the other."""
    top = 0
    names = names.of(itinerary)
    for lane in itinerary.on().lanes:
        made = _Drawing(itinerary.on(), lane, names, top)
        yield made.process()
        top = made.lowest + 2 * ROW


class _Drawing:
    """One lane while it is drawn."""

    def __init__(self, itinerary: Itinerary, lane: Lane, names: Names, top: int):
        self.lane, self.names = lane, names
        self.starts = [one for one in itinerary.starts if one.lane == lane.id]
        self.top = self.lowest = top
        self.nodes: list[Node] = []
        self.links: list[Link] = []

    def process(self) -> Process:
        """The lane with all that leads from its starts to its ends."""
        steps = self.lane.steps
        begun = []
        for place, start in enumerate(self.starts):
            said = str(start_words(start, self.names))
            begun.append(self._node(f"start_{start.id}", "startEvent", said, 0, place))
        if not begun:
            by_hand = str(Wording("brought in by hand"))
            begun.append(self._node(f"start_{self.lane.id or 'first'}", "startEvent", by_hand, 0))
        ways = [_Way(one) for one in begun]
        column, ways, _ = self._steps(steps, 1, 0, ways)
        if ways:
            end = self._node(
                f"end_{self.lane.id or 'first'}", "endEvent", str(Wording("End")), column
            )
            self._lead(ways, end)
        name = self.names.lanes.get(self.lane.id, "")
        return Process(
            f"lane_{self.lane.id or 'first'}", name, tuple(self.nodes), tuple(self.links)
        )

    def _node(
        self, ident: str, element: str, name: str, column: int, row: int = 0, **more: str
    ) -> str:
        y = self.top + row * ROW
        self.lowest = max(self.lowest, y)
        self.nodes.append(Node(ident, element, name, column * COLUMN, y, **more))
        return ident

    def _lead(self, ways: list[_Way], to: str) -> None:
        """Has several ways lead to a node."""
        for way in ways:
            ident = f"flow_{len(self.links) + 1}_{to}"
            self.links.append(Link(ident, way.source, to, way.said, way.otherwise))

    def _steps(
        self, steps: tuple[Step, ...], column: int, row: int, ways: list[_Way]
    ) -> tuple[int, list[_Way], int]:
        """Draws steps after each other. Gives the column behind them, what leads on from there
        (nothing where everybody has left), and how many rows they take."""
        rows = 1
        for step in steps:
            if not ways:
                break
            if isinstance(step, Parting):
                column, ways, taken = self._parting(step, column, row, ways)
                rows = max(rows, taken)
            else:
                ident = self._simple(step, column, row)
                self._lead(ways, ident)
                ways = [] if isinstance(step, ExitStep | JumpStep) else [_Way(ident)]
                column += 1
        return column, ways, rows

    def _simple(self, step: Step, column: int, row: int) -> str:
        said = line(step, self.names)
        name = f"{said.kind}: {said.what}" if said.what else str(said.kind)
        more: dict[str, str] = {}
        if isinstance(step, WaitStep):
            element = "intermediateCatchEvent"
            plain = step.at is None and step.weekday is None and not step.date
            if plain:
                more["duration"] = _UNITS[step.span.unit].format(step.span.amount)
            else:
                more["until"] = name
        else:
            element = _element(step)
        return self._node(f"step_{step.id}", element, name, column, row, **more)

    def _parting(
        self, step: Parting, column: int, row: int, ways: list[_Way]
    ) -> tuple[int, list[_Way], int]:
        """A gateway, each path in rows of its own, and one more gateway where they meet again."""
        said = line(step, self.names)
        ident, waits = f"step_{step.id}", isinstance(step, WaitForStep)
        element = "eventBasedGateway" if waits else "exclusiveGateway"
        self._node(ident, element, f"{said.kind} {said.what}".strip(), column, row)
        self._lead(ways, ident)
        furthest, taken = column + 1, 0
        met: list[_Way] = []
        for path in step.paths:
            last = path is step.paths[-1]
            words = path_line(step, path, self.names)
            case = f"{words.kind} {words.what}".strip()
            begun = _Way(ident, case, last)
            inside = column + 1
            if isinstance(step, WaitForStep):
                here = self._awaited(step, path, case, last, inside, row + taken)
                self._lead([_Way(ident)], here)
                begun, inside = _Way(here), inside + 1
            end, on, rows = self._steps(path.steps, inside, row + taken, [begun])
            furthest, taken = max(furthest, end), taken + rows
            met += on
        if met:
            meets = self._node(f"{ident}_met", "exclusiveGateway", "", furthest, row)
            self._lead(met, meets)
            met, furthest = [_Way(meets)], furthest + 1
        return furthest, met, taken

    def _awaited(
        self, step: WaitForStep, path: Path, said: str, last: bool, column: int, row: int
    ) -> str:
        """What a path waits for: something that happens, or that the time is up."""
        if last:
            more = {"duration": _UNITS[step.span.unit].format(step.span.amount)}
        else:
            more = {"message": said}
        return self._node(f"path_{path.id}", "intermediateCatchEvent", said, column, row, **more)


def _element(step: Step) -> str:
    """The element of a step that neither waits nor parts people."""
    if isinstance(step, MessageStep | TellStep):
        return "sendTask"
    if isinstance(step, TaskStep):
        return "userTask"
    if isinstance(step, WebhookStep):
        return "serviceTask"
    if isinstance(step, GoalStep):
        return "intermediateThrowEvent"
    return "endEvent" if isinstance(step, ExitStep | JumpStep) else "task"
