"""The plain evaluator: does one person match, and why. Slow and simple, the judge of the fast
ones."""

import datetime as dt
from collections.abc import Callable, Iterable

from meadowrun.core.audience.dates import Clock
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.kinds import KINDS
from meadowrun.core.audience.nodes import Definition, Node
from meadowrun.core.audience.persons import Person


class Judge:
    """Judges people one by one. `colleagues` gives everyone of a person's company, themselves
    included."""

    def __init__(
        self,
        words: Dictionary,
        clock: Clock,
        colleagues: Callable[[Person], Iterable[Person]] = lambda p: [p],
    ):
        self.words, self.clock, self.colleagues = words, clock, colleagues

    def matches(self, definition: Definition, person: Person) -> bool:
        """Whether one person is in the segment."""
        return all(self.holds(node, person) for node in definition.lines if not node.off)

    def holds(self, node: Node, person: Person) -> bool:
        """Whether one line holds for one person, whatever the lines beside it say."""
        return KINDS[node.kind].holds(node, person, self)

    def looked_at(self, node: Node, person: Person) -> str:
        """What a line looked at of a person, in words; empty where there is nothing to say."""
        return KINDS[node.kind].looked_at(node, person, self)

    def moments(self, node: Node, person: Person) -> list[dt.datetime]:
        """When what a countable line asks for happened: once for each event, or for each message
        its first time."""
        return KINDS[node.kind].moments(node, person, self)
