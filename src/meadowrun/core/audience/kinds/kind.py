"""What each kind of condition must be able to do without a database, and the kinds that there are.

Its SQL and the forms of its words are in segments/conditions; tests/store/conditions.py has a
strategy for each, so that the plain evaluator, the database and the sieve are held equal.
"""

import abc
import dataclasses
import datetime as dt
import re
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

from meadowrun.core.audience.fields import NAMED, Dictionary
from meadowrun.core.audience.nodes import Definition, Node
from meadowrun.core.audience.operands import DefinitionError
from meadowrun.core.audience.persons import Person
from meadowrun.core.audience.saying import Part
from meadowrun.core.audience.turning import Turning, together
from meadowrun.core.channels import CHANNEL_WORDS
from meadowrun.core.language import Wording

if TYPE_CHECKING:
    from meadowrun.core.audience.judge import Judge

Json = dict[str, Any]
MOST_LINES = 200
MOST_DEPTH = 60
IDENT = re.compile(r"[A-Za-z0-9]{1,12}\Z")

# Members of several kinds, as JSON Schema.
ID: Json = {"type": "string", "pattern": "^[A-Za-z0-9]{1,12}$"}
NUMBER: Json = {"type": "integer", "minimum": 1}
INSIDE: Json = {"inside": {"type": "boolean", "default": True}}
N = TypeVar("N", bound=Node)


class Kind(abc.ABC, Generic[N]):
    """One kind of condition. `key` is the “kind” of its JSON and of its values."""

    key: ClassVar[str]
    #: the members that its JSON must have besides its id and kind
    required: ClassVar[tuple[str, ...]] = ()
    #: its member that names something by number → the kind of NAMED that it is
    names: ClassVar[Mapping[str, str]] = {}

    @abc.abstractmethod
    def members(self) -> Json:
        """What its JSON may hold besides its id, its kind and whether it is off, as JSON
        Schema."""

    @abc.abstractmethod
    def read(self, data: Mapping[str, Any], line: "Reading") -> N:
        """The value of its JSON. Raises DefinitionError with a sentence on what to fix."""

    @abc.abstractmethod
    def write(self, node: N) -> Json:
        """The JSON of a value, without what every line has."""

    @abc.abstractmethod
    def begin(self, key: str, words: Dictionary, options: Mapping[str, list[str]]) -> Json:
        """The JSON of a fresh line with sensible settings, about what `key` names. `options` are
        what a field’s value may be, by its name. Raises KeyError where there is nothing of that
        name."""

    @abc.abstractmethod
    def holds(self, node: N, person: Person, judge: "Judge") -> bool:
        """Whether a line holds for one person, whatever the lines beside it say."""

    @abc.abstractmethod
    def looked_at(self, node: N, person: Person, judge: "Judge") -> str:
        """What a line looked at of a person, in words; empty where there is nothing to say."""

    @abc.abstractmethod
    def sentence(self, node: N, words: Dictionary, today: dt.date, out: bool) -> list[Part]:
        """The parts of a line’s sentence; `out` for one that leaves out."""

    @abc.abstractmethod
    def turning(self, node: N, words: Dictionary) -> Turning:
        """When the answer of a line can turn, besides by what the contact themselves is."""

    def means_today(self, node: N, words: Dictionary, today: dt.date) -> str:
        """The real dates that a moving condition means today, or nothing."""
        return ""

    def countable(self, node: N) -> bool:
        """Whether a line speaks of one thing that happens, so that it can be counted."""
        return False

    def moments(self, node: N, person: Person, judge: "Judge") -> list[dt.datetime]:
        """When what a countable line asks for happened to a person."""
        raise NotImplementedError(f"{self.key} cannot be counted")


#: The kinds of condition by their keys.
KINDS: dict[str, Kind[Any]] = {}


def turning_of(definition: Definition, words: Dictionary) -> Turning:
    """When somebody can become, or stop being, one of those that a definition is of."""
    lines = (line for line in definition.lines if not line.off)
    return together(KINDS[line.kind].turning(line, words) for line in lines)


def register(*kinds: Kind[Any]) -> None:
    """Makes kinds of condition known."""
    KINDS.update({kind.key: kind for kind in kinds})


@dataclasses.dataclass(frozen=True)
class Reading:
    """One line that is being read: what its kind may ask of the reader."""

    reader: "Reader"
    ident: str
    off: bool
    depth: int

    @property
    def words(self) -> Dictionary:
        return self.reader.words

    def wrong(self, problem: str) -> DefinitionError:
        """What to raise about this line."""
        return DefinitionError(problem, self.ident)

    def nodes(self, lines: Sequence[Any]) -> tuple[Node, ...]:
        """The lines inside this one."""
        return tuple(self.reader.node(one, self.depth + 1) for one in lines)

    def named(self, kind: str, number: Any) -> int:
        """The number of something with a name that exists; a tag may be named by its path."""
        assert kind in NAMED
        if kind == "tag" and isinstance(number, str):
            tags = self.words.named.get("tag", {})
            number = next((n for n, path in tags.items() if path == number), None)
        if (
            isinstance(number, bool)
            or not isinstance(number, int)
            or self.words.name(kind, number) is None
        ):
            raise self.wrong(
                Wording(
                    "The %(kind)s this line names does not exist any more. Choose another, or "
                    "remove the line.",
                    kind=kind,
                )
            )
        return number

    def channel(self, data: Mapping[str, Any]) -> str:
        """The channel that a line names; email where it names none."""
        channel = data.get("channel", "email")
        if not isinstance(channel, str) or channel not in CHANNEL_WORDS:
            raise self.wrong(
                Wording(
                    "The channels are %(channel_words)s.", channel_words=", ".join(CHANNEL_WORDS)
                )
            )
        return channel


class Reader:
    """Reads the lines of one definition, of whatever kind."""

    def __init__(self, words: Dictionary, inside: tuple[int, ...]):
        self.words, self.inside = words, inside
        self.seen: set[str] = set()

    def node(self, data: Any, depth: int) -> Node:
        """The line of its JSON."""
        if not isinstance(data, Mapping):
            raise DefinitionError("A line is not an object.")
        ident = data.get("id")
        if not isinstance(ident, str) or not IDENT.match(ident):
            raise DefinitionError("A line has no usable id (letters and digits, at most 12).")
        if ident in self.seen:
            raise DefinitionError(
                Wording("Two lines have the same id, %(ident)s.", ident=ident), ident
            )
        self.seen.add(ident)
        if len(self.seen) > MOST_LINES:
            raise DefinitionError(
                Wording("A segment can have at most %(most_lines)s lines.", most_lines=MOST_LINES),
                ident,
            )
        if depth > MOST_DEPTH:
            raise DefinitionError(
                Wording("Groups can be nested at most %(most_depth)s deep.", most_depth=MOST_DEPTH),
                ident,
            )
        kind = KINDS.get(str(data.get("kind")))
        if kind is None:
            raise DefinitionError(
                Wording("“%(kind)s” is not a kind of line.", kind=data.get("kind")), ident
            )
        members = kind.members().keys()
        unknown = data.keys() - {"id", "kind", "off"} - members
        if unknown:
            # To leave it out unsaid would find other people than were meant.
            raise DefinitionError(
                Wording(
                    "A line of the kind “%(key)s” has no “%(member)s”; it may have %(members)s.",
                    key=kind.key,
                    member=min(unknown),
                    members=", ".join(sorted(members)),
                ),
                ident,
            )
        read: Node = kind.read(data, Reading(self, ident, bool(data.get("off", False)), depth))
        return read


def parse(data: Any, words: Dictionary, inside: Sequence[int] = ()) -> Definition:
    """Reads stored or posted JSON into a Definition.

    Raises DefinitionError with the line's id and a sentence on what to fix. What lines name must
    exist in `words`. `inside` are the segments this one is being read for: naming one of them again
    would be a circle.
    """
    if not isinstance(data, Mapping) or not isinstance(data.get("lines"), list):
        raise DefinitionError("The definition is not an object with a list of lines.")
    if data.get("format", 1) != 1:
        raise DefinitionError("This definition was written by a newer version of Meadowrun.")
    reader = Reader(words, tuple(inside))
    return Definition(tuple(reader.node(item, 1) for item in data["lines"]))


def plain(value: Any) -> Any:
    """A value of a line as JSON."""
    if isinstance(value, tuple):
        return [plain(v) for v in value]
    return value.isoformat() if isinstance(value, dt.date) else value
