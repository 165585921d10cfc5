"""An itinerary as JSON: written, and read with every mistake named by its place."""

import dataclasses
from typing import Any

from meadowrun.core.journeys.details import number_of
from meadowrun.core.journeys.steps import (
    AGAIN,
    CHANGES,
    COMPARISONS,
    MOST_BACK,
    MOST_CONTROL,
    PAST,
    REACTIONS,
    REFUSED,
    STARTS,
    UNITS,
    BranchStep,
    ChangeStep,
    Door,
    ExitRule,
    ExitStep,
    Goal,
    GoalStep,
    Itinerary,
    JumpStep,
    Lane,
    MessageStep,
    Parting,
    Path,
    Span,
    SplitStep,
    Start,
    Step,
    TaskStep,
    TellStep,
    WaitForStep,
    WaitStep,
    WebhookStep,
    Who,
)
from meadowrun.core.language import Problem, Wording
from meadowrun.core.scores import MOST_POINTS
from meadowrun.core.tasks import KINDS, PRIORITIES
from meadowrun.core.timing.rhythm import RhythmError

Json = dict[str, Any]
#: The most steps of a journey, and the most ways on from one step.
MOST_STEPS = 200
MOST_PATHS = 20
MOST_EXITS = 20
MOST_STARTS = 10
#: The most lanes of a journey.
MOST_LANES = 8
#: The most letters of a name, or of what a message should do.
MOST_NOTE = 100
#: The most letters of an address.
MOST_ADDRESS = 2000
#: The most letters of what a colleague is asked to do.
MOST_SUBJECT = 200
#: The most letters of what a field is set to.
MOST_VALUE = 500
#: The most people that a limit may say.
MOST_PEOPLE = 10_000_000
#: The most lines by which people are told apart at one place.
MOST_LINES = 50
_DEEPEST = 12


class ItineraryError(Problem):
    """What is wrong with an itinerary: the words, and the place in it."""

    def __init__(self, words: Wording | str, place: str = ""):
        super().__init__(words)
        self.place = place


def to_json(itinerary: Itinerary) -> Json:
    """As it is stored and as the API gives it."""
    return {
        "starts": [dataclasses.asdict(one) for one in itinerary.starts],
        "steps": [_step_json(one) for one in itinerary.steps],
        "goal": dataclasses.asdict(itinerary.goal) if itinerary.goal else None,
        "exits": [dataclasses.asdict(one) for one in itinerary.exits],
        "again": itinerary.again,
        "again_days": itinerary.again_days,
        "subject": itinerary.subject,
        "door": dataclasses.asdict(itinerary.door),
        "ids": itinerary.ids,
        "stays": itinerary.stays,
        "lane_name": itinerary.lane_name,
        "beside": [
            {
                "id": one.id,
                "name": one.name,
                "steps": [_step_json(step) for step in one.steps],
            }
            for one in itinerary.beside
        ],
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
    made = Itinerary(
        starts=reader.starts(data.get("starts", [])),
        steps=reader.steps(data.get("steps", []), "steps", 0),
        goal=reader.goal(data.get("goal")),
        again=reader.one_of(data, "again", "", AGAIN, "once"),
        again_days=reader.whole(data, "again_days", "", 90, 1, 3650),
        subject=reader.text(data, "subject", ""),
        door=reader.door(data.get("door", {})),
        ids=reader.whole(data, "ids", "", 0),
        exits=reader.exits(data.get("exits", [])),
        stays=bool(data.get("stays")),
        beside=reader.beside(data.get("beside", [])),
        lane_name=reader.text(data, "lane_name", "").strip(),
    )
    _lead_somewhere(made)
    return made


def _lead_somewhere(itinerary: Itinerary) -> None:
    """Sees that whatever leads into a lane leads into one that is there. Raises ItineraryError."""
    lanes = {one.id for one in itinerary.lanes}
    leads = [(f"starts[{place}]", one.lane) for place, one in enumerate(itinerary.starts)]
    leads += [
        (step.id, step.lane)
        for step, _, _ in itinerary.walk()
        if isinstance(step, JumpStep) and not step.journey
    ]
    for place, lane in leads:
        if lane not in lanes:
            raise ItineraryError(
                Wording("“%(place)s” leads into a lane that is not there.", place=place), place
            )


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
        if not isinstance(value, str) or len(value) > MOST_NOTE:
            raise self._wrong(name, place)
        return value

    def door(self, data: Any) -> Door:
        self.is_object(data, "door")
        return Door(
            self.whole(data, "hourly", "door", 0, 0, MOST_PEOPLE),
            self.whole(data, "most_inside", "door", 0, 0, MOST_PEOPLE),
            self.numbers(data, "not_while", "door"),
        )

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

    def span(self, data: Json, place: str, name: str = "span") -> Span:
        span = data.get(name)
        self.is_object(span, f"{place}.{name}")
        assert isinstance(span, dict)
        return Span(
            self.whole(span, "amount", f"{place}.{name}", 1, 0, 1000),
            self.one_of(span, "unit", f"{place}.{name}", tuple(UNITS), "day"),
        )

    def with_detail(self, path: Path, data: Json, place: str) -> Path:
        """A path with what it asks of the event that started the journey."""
        detail = self.text(data, "detail", place)
        if not detail:
            return path
        compare = self.one_of(data, "compare", place, COMPARISONS, "is")
        value = self.text(data, "value", place).strip()
        return dataclasses.replace(path, detail=detail, compare=compare, value=value)

    def numbers(self, data: Json, name: str, place: str) -> tuple[int, ...]:
        """Numbers of a few things, in order."""
        found = data.get(name) or []
        whole = isinstance(found, list | tuple) and all(
            isinstance(one, int) and not isinstance(one, bool) and one >= 0 for one in found
        )
        if not whole or len(found) > MOST_PATHS:
            raise self._wrong(name, place)
        return tuple(found)

    def change(self, data: Json, ident: str, place: str) -> ChangeStep:
        what = self.one_of(data, "what", place, CHANGES, "")
        field = self.text(data, "field", place)
        if (what == "field") != bool(field):
            raise self._wrong("field", place)
        value = data.get("value") or ""
        if not isinstance(value, str) or len(value) > MOST_VALUE:
            raise self._wrong("value", place)
        points = number_of(value) if what == "score" else None
        if what == "score" and (points is None or not 0 < points <= MOST_POINTS):
            raise self._wrong("value", place)
        return ChangeStep(
            ident,
            what,
            self.whole(data, "number", place, 0),
            bool(data.get("remove")),
            field,
            " ".join(value.split()),
        )

    def task(self, data: Json, ident: str, place: str) -> TaskStep:
        subject = data.get("subject")
        if not isinstance(subject, str) or not subject.strip() or len(subject) > MOST_SUBJECT:
            raise self._wrong("subject", place)
        return TaskStep(
            ident,
            self.one_of(data, "what", place, tuple(KINDS), "task"),
            " ".join(subject.split()),
            self.span(data, place, "due"),
            self.one_of(data, "priority", place, tuple(PRIORITIES), "usual"),
            self.numbers(data, "to", place),
        )

    def message(self, data: Json, ident: str, place: str) -> MessageStep:
        begins, ends = self.minutes(data, "begins", place), self.minutes(data, "ends", place)
        if (begins is None) != (ends is None) or begins is not None and begins == ends:
            raise self._wrong("ends", place)
        return MessageStep(
            ident,
            self.whole(data, "message", place, 0),
            self.whole(data, "hold", place, 168, 1, 720),
            self.one_of(data, "refused", place, REFUSED, "go_on"),
            self.text(data, "note", place),
            self.text(data, "channel", place),
            self.numbers(data, "instead", place),
            begins,
            ends,
            bool(data.get("best")),
        )

    def tell(self, data: Json, ident: str, place: str) -> TellStep:
        text = data.get("text")
        if not isinstance(text, str) or not text.strip() or len(text) > MOST_SUBJECT:
            raise self._wrong("text", place)
        return TellStep(ident, " ".join(text.split()), self.numbers(data, "to", place))

    def who(self, data: Json, place: str) -> Who:
        """Certain people. Whether their lines mean anything is found when they are asked."""
        who = data.get("who") or {}
        place = f"{place}.who"
        self.is_object(who, place)
        lines = who.get("lines") or []
        if not isinstance(lines, list | tuple) or len(lines) > MOST_LINES:
            raise self._wrong("lines", place)
        for line in lines:
            self.is_object(line, f"{place}.lines")
        return Who(self.whole(who, "segment", place, 0), tuple(lines))

    def minutes(self, data: Json, name: str, place: str) -> int | None:
        """Minutes after midnight, where any are given."""
        return None if data.get(name) is None else self.whole(data, name, place, 0, 0, 24 * 60 - 1)

    def starts(self, data: Any) -> tuple[Start, ...]:
        """What brings people in."""
        if not isinstance(data, list) or len(data) > MOST_STARTS:
            raise self._wrong("starts", "")
        return tuple(self.start(one, f"starts[{number}]") for number, one in enumerate(data))

    def start(self, data: Any, place: str) -> Start:
        self.is_object(data, place)
        how = self.one_of(data, "how", place, STARTS, "")
        found = Start(
            how,
            self.text(data, "event", place),
            self.who(data, place),
            self.text(data, "date", place),
            self.whole(data, "before", place, 0, -3650, 3650),
            self.whole(data, "at", place, 9 * 60, 0, 24 * 60 - 1),
            bool(data.get("yearly")),
            self.ident(data, place),
            self.text(data, "rhythm", place),
            self.text(data, "first", place),
            self.whole(data, "back", place, 0, 0, MOST_BACK if how == "event" else 0),
            self.text(data, "lane", place),
        )
        self.is_rhythm(found, place)
        if how == "event" and not found.event:
            raise self._wrong("event", place)
        if how == "date" and not found.date:
            raise self._wrong("date", place)
        if how in ("everyone", "turns", "turns_not", "rhythm") and not found.who:
            raise self._wrong("who", place)
        return found

    def is_rhythm(self, start: Start, place: str) -> None:
        """Sees that the rule of days of a start can be read, and stands where it belongs."""
        if start.how != "rhythm":
            if start.rhythm or start.first:
                raise self._wrong("rhythm", place)
            return
        try:
            next(start.days(), None)
        except RhythmError as problem:
            raise ItineraryError(str(problem), f"{place}.rhythm") from None
        except ValueError:
            raise self._wrong("first", place) from None

    def beside(self, data: Any) -> tuple[Lane, ...]:
        """The lanes beside the first one."""
        if not isinstance(data, list | tuple) or len(data) >= MOST_LANES:
            raise self._wrong("beside", "")
        found = []
        for number, one in enumerate(data):
            place = f"beside[{number}]"
            self.is_object(one, place)
            ident = self.ident(one, place)
            steps = self.steps(one.get("steps", []), f"{place}.steps", 0)
            found.append(Lane(ident, steps, self.text(one, "name", place).strip()))
        return tuple(found)

    def exits(self, data: Any) -> tuple[ExitRule, ...]:
        """What takes people out."""
        if not isinstance(data, list) or len(data) > MOST_EXITS:
            raise self._wrong("exits", "")
        found = []
        for number, one in enumerate(data):
            place = f"exits[{number}]"
            self.is_object(one, place)
            rule = ExitRule(
                self.ident(one, place), self.text(one, "event", place), self.who(one, place)
            )
            if bool(rule.event) == bool(rule.who):
                raise self._wrong("event", place)
            found.append(rule)
        return tuple(found)

    def goal(self, data: Any) -> Goal | None:
        if data is None:
            return None
        self.is_object(data, "goal")
        event = self.text(data, "event", "goal")
        if not event:
            raise self._wrong("event", "goal")
        days = self.whole(data, "days", "goal", 30, 1, 3650)
        control = self.whole(data, "control", "goal", 0, 0, MOST_CONTROL)
        amount = self.text(data, "amount", "goal")
        return Goal(event, days, bool(data.get("ends")), control, amount)

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
        found = self._step(data, place, depth)
        name = self.text(data, "name", place).strip()
        return dataclasses.replace(found, name=name, off=bool(data.get("off")))

    def _step(self, data: Any, place: str, depth: int) -> Step:
        self.is_object(data, place)
        ident = self.ident(data, place)
        kind = data.get("kind")
        if kind == "message":
            return self.message(data, ident, place)
        if kind == "wait":
            return self.wait(data, ident, place)
        if kind == "task":
            return self.task(data, ident, place)
        if kind == "tell":
            return self.tell(data, ident, place)
        if kind == "webhook":
            address = data.get("address")
            if not isinstance(address, str) or not 0 < len(address) <= MOST_ADDRESS:
                raise self._wrong("address", place)
            failed = self.one_of(data, "failed", place, REFUSED, "go_on")
            return WebhookStep(ident, address.strip(), failed)
        if kind == "jump":
            journey = self.whole(data, "journey", place, 0)
            return JumpStep(ident, journey, self.text(data, "lane", place))
        if kind == "exit":
            return ExitStep(ident)
        if kind == "goal":
            return GoalStep(ident)
        if kind == "change":
            return self.change(data, ident, place)
        return self.parting(data, ident, kind, place, depth)

    def wait(self, data: Json, ident: str, place: str) -> WaitStep:
        day = data.get("weekday")
        return WaitStep(
            ident,
            self.span(data, place),
            self.minutes(data, "at", place),
            None if day is None else self.whole(data, "weekday", place, 0, 0, 6),
            self.text(data, "date", place),
            bool(data.get("before")),
            bool(data.get("yearly")),
            self.one_of(data, "past", place, PAST, "go_on"),
        )

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
        found = self._path(data, kind, place, last, depth)
        return dataclasses.replace(found, name=self.text(data, "name", place).strip())

    def _path(self, data: Any, kind: str, place: str, last: bool, depth: int) -> Path:
        self.is_object(data, place)
        ident = self.ident(data, place)
        inside = self.steps(data.get("steps", []), f"{place}.steps", depth + 1)
        if kind == "split":
            return Path(ident, inside, percent=self.whole(data, "percent", place, 0, 1, 99))
        if last:
            # For everyone else: nothing is asked.
            return Path(ident, inside)
        if kind == "branch":
            found = Path(ident, inside, self.who(data, place))
            return self.with_detail(found, data, place)
        reaction = self.one_of(data, "reaction", place, ("", *REACTIONS), "")
        link = data.get("link") or ""
        if not isinstance(link, str) or len(link) > MOST_ADDRESS or link and reaction != "clicked":
            raise self._wrong("link", place)
        event = self.text(data, "event", place)
        return Path(ident, inside, event=event, reaction=reaction, link=link)
