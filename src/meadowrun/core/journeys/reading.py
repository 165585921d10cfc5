"""An itinerary as JSON: written, and read with every mistake named by its place."""

import dataclasses
from typing import Any

from meadowrun.core.journeys.steps import (
    AGAIN,
    REACTIONS,
    REFUSED,
    UNITS,
    BranchStep,
    ChangeStep,
    ExitStep,
    Goal,
    Itinerary,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    Step,
    WaitForStep,
    WaitStep,
)
from meadowrun.core.language import Problem, Wording

Json = dict[str, Any]
#: The most steps of a journey, and the most ways on from one step.
MOST_STEPS = 200
MOST_PATHS = 20
_DEEPEST = 12


class ItineraryError(Problem):
    """What is wrong with an itinerary: the words, and the place in it."""

    def __init__(self, words: Wording | str, place: str = ""):
        super().__init__(words)
        self.place = place


def to_json(itinerary: Itinerary) -> Json:
    """As it is stored and as the API gives it."""
    return {
        "start": dataclasses.asdict(itinerary.start),
        "steps": [_step_json(one) for one in itinerary.steps],
        "goal": dataclasses.asdict(itinerary.goal) if itinerary.goal else None,
        "again": itinerary.again,
        "again_days": itinerary.again_days,
        "ids": itinerary.ids,
    }


def _step_json(step: Step) -> Json:
    found: Json = {"kind": step.kind}
    for field in dataclasses.fields(step):
        value = getattr(step, field.name)
        if isinstance(value, Span):
            value = dataclasses.asdict(value)
        elif field.name == "paths":
            value = [
                {**dataclasses.asdict(path), "steps": [_step_json(one) for one in path.steps]}
                for path in value
            ]
        found[field.name] = value
    return found


def from_json(data: Any) -> Itinerary:
    """Reads an itinerary. Raises ItineraryError that names the place."""
    _Reader.is_object(data, "itinerary")
    reader = _Reader()
    start = data.get("start") or {}
    reader.is_object(start, "start")
    made = Itinerary(
        start=Start(
            reader.text(start, "event", "start"), reader.whole(start, "segment", "start", 0)
        ),
        steps=reader.steps(data.get("steps", []), "steps", 0),
        goal=reader.goal(data.get("goal")),
        again=reader.one_of(data, "again", "", AGAIN, "once"),
        again_days=reader.whole(data, "again_days", "", 90, 1, 3650),
        ids=reader.whole(data, "ids", "", 0),
    )
    return made


class _Reader:
    """Reads parts of an itinerary, and sees that no id comes twice."""

    def __init__(self) -> None:
        self.ids: set[str] = set()

    @staticmethod
    def is_object(data: Any, place: str) -> None:
        if not isinstance(data, dict):
            raise ItineraryError(Wording("“%(place)s” is not an object.", place=place), place)

    def text(self, data: Json, name: str, place: str) -> str:
        value = data.get(name) or ""
        if not isinstance(value, str) or len(value) > 100:
            raise self._wrong(name, place)
        return value

    def whole(
        self, data: Json, name: str, place: str, default: int, least: int = 0, most: int = 2**53
    ) -> int:
        value = data.get(name, default)
        if isinstance(value, bool) or not isinstance(value, int) or not least <= value <= most:
            raise self._wrong(name, place)
        return value

    def one_of(
        self, data: Json, name: str, place: str, choices: tuple[str, ...], default: str
    ) -> str:
        value = data.get(name, default)
        if value not in choices:
            raise self._wrong(name, place)
        return str(value)

    def _wrong(self, name: str, place: str) -> ItineraryError:
        where = f"{place}.{name}" if place else name
        return ItineraryError(Wording("“%(place)s” cannot be that.", place=where), where)

    def ident(self, data: Json, place: str) -> str:
        value = self.text(data, "id", place)
        if not value or value in self.ids:
            raise ItineraryError(Wording("“%(place)s” needs an id of its own.", place=place), place)
        self.ids.add(value)
        return value

    def span(self, data: Json, place: str) -> Span:
        span = data.get("span")
        self.is_object(span, f"{place}.span")
        assert isinstance(span, dict)
        return Span(
            self.whole(span, "amount", f"{place}.span", 1, 0, 1000),
            self.one_of(span, "unit", f"{place}.span", tuple(UNITS), "day"),
        )

    def goal(self, data: Any) -> Goal | None:
        if data is None:
            return None
        self.is_object(data, "goal")
        event = self.text(data, "event", "goal")
        if not event:
            raise self._wrong("event", "goal")
        days = self.whole(data, "days", "goal", 30, 1, 3650)
        return Goal(event, days, bool(data.get("ends")))

    def steps(self, data: Any, place: str, depth: int) -> tuple[Step, ...]:
        if not isinstance(data, list):
            raise ItineraryError(Wording("“%(place)s” is not a list.", place=place), place)
        if depth > _DEEPEST:
            raise ItineraryError(Wording("Paths are nested too deeply."), place)
        found = tuple(
            self.step(one, f"{place}[{number}]", depth) for number, one in enumerate(data)
        )
        if len(self.ids) > MOST_STEPS * 4:
            raise ItineraryError(
                Wording("A journey has at most %(most)s steps.", most=MOST_STEPS), place
            )
        return found

    def step(self, data: Any, place: str, depth: int) -> Step:
        self.is_object(data, place)
        ident = self.ident(data, place)
        kind = data.get("kind")
        if kind == "message":
            return MessageStep(
                ident,
                self.whole(data, "message", place, 0),
                self.whole(data, "hold", place, 168, 1, 720),
                self.one_of(data, "refused", place, REFUSED, "go_on"),
            )
        if kind == "wait":
            at = data.get("at")
            if at is not None:
                at = self.whole(data, "at", place, 0, 0, 24 * 60 - 1)
            return WaitStep(ident, self.span(data, place), at)
        if kind == "exit":
            return ExitStep(ident)
        if kind == "change":
            return ChangeStep(
                ident,
                self.one_of(data, "what", place, ("tag", "list"), ""),
                self.whole(data, "number", place, 0),
                bool(data.get("remove")),
            )
        return self.parting(data, ident, kind, place, depth)

    def parting(self, data: Json, ident: str, kind: Any, place: str, depth: int) -> Parting:
        """A step at which paths part."""
        if kind not in ("branch", "wait_for", "split"):
            raise self._wrong("kind", place)
        given = data.get("paths")
        if not isinstance(given, list) or not 2 <= len(given) <= MOST_PATHS:
            raise ItineraryError(
                Wording("“%(place)s” needs two paths or more.", place=place), f"{place}.paths"
            )
        paths = tuple(
            self.path(one, kind, f"{place}.paths[{number}]", number == len(given) - 1, depth)
            for number, one in enumerate(given)
        )
        if kind == "branch":
            return BranchStep(ident, paths)
        if kind == "wait_for":
            return WaitForStep(ident, self.span(data, place), paths)
        if sum(path.percent for path in paths) != 100:
            raise ItineraryError(
                Wording("The shares of “%(place)s” are not 100%% together.", place=place), place
            )
        return SplitStep(ident, paths)

    def path(self, data: Any, kind: str, place: str, last: bool, depth: int) -> Path:
        self.is_object(data, place)
        ident = self.ident(data, place)
        inside = self.steps(data.get("steps", []), f"{place}.steps", depth + 1)
        if kind == "split":
            return Path(ident, inside, percent=self.whole(data, "percent", place, 0, 1, 99))
        if last:
            # For everyone else: nothing is asked.
            return Path(ident, inside)
        if kind == "branch":
            return Path(ident, inside, segment=self.whole(data, "segment", place, 0))
        reaction = self.one_of(data, "reaction", place, ("", *REACTIONS), "")
        return Path(ident, inside, event=self.text(data, "event", place), reaction=reaction)
