"""The sieve's arithmetic: from one set of contact numbers per line to what each line keeps and
loses."""

import dataclasses
from collections.abc import Mapping

from pyroaring import BitMap

from meadowrun.core.audience.nodes import Definition, Group, Node


@dataclasses.dataclass(frozen=True, slots=True)
class Step:
    """One top line of the sieve, after the lines before it."""

    id: str
    before: int
    kept: int
    #: how many match this line alone, whatever the others say
    alone: int
    off: bool

    @property
    def lost(self) -> int:
        return self.before - self.kept


@dataclasses.dataclass(frozen=True, slots=True)
class Sieve:
    everyone: int
    steps: tuple[Step, ...]
    #: node id → how many match it on its own, for every node at any depth
    alone: Mapping[str, int]
    #: top line's id → how many there would be if that line were off
    without: Mapping[str, int]
    #: pairs of top lines that nobody matches together, though each is matched by somebody
    clashes: tuple[tuple[str, str], ...]
    members: BitMap
    #: how many match; of a sample's sieve how many likely do
    size: int


def node_set(
    node: Node, sets: Mapping[str, BitMap], everyone: BitMap, alone: dict[str, int]
) -> BitMap:
    """Who matches a node. Lines that are off do not count; a group without live lines lets everyone
    through."""
    if isinstance(node, Group):
        live = [(n, node_set(n, sets, everyone, alone)) for n in node.lines]
        parts = [s for n, s in live if not n.off]
        if node.match == "colleagues":
            # Who works with whom is known to the database only: it gives the set, as for a single
            # line.
            result = sets[node.id]
        elif not parts:
            result = everyone
        elif node.match == "all":
            result = BitMap.intersection(*parts) if len(parts) > 1 else parts[0]
        else:
            result = BitMap.union(*parts) if len(parts) > 1 else parts[0]
            if node.match == "none":
                result = everyone - result
    else:
        result = sets[node.id]
    alone[node.id] = len(result)
    return result


def sieve(definition: Definition, sets: Mapping[str, BitMap], everyone: BitMap) -> Sieve:
    """Works the whole sieve out of one set per leaf line (`sets`, by line id)."""
    alone: dict[str, int] = {}
    steps = []
    current = everyone
    live: list[tuple[str, BitMap]] = []
    for node in definition.lines:
        own = node_set(node, sets, everyone, alone)
        after = current if node.off else current & own
        steps.append(Step(node.id, len(current), len(after), len(own), node.off))
        current = after
        if not node.off:
            live.append((node.id, own))
    without = {}
    for ident, _ in live:
        others = [s for other, s in live if other != ident]
        without[ident] = len(BitMap.intersection(everyone, *others)) if others else len(everyone)
    clashes = tuple(
        (a, b)
        for place, (a, first) in enumerate(live)
        for b, second in live[place + 1 :]
        if first and second and not first.intersect(second)
    )
    return Sieve(len(everyone), tuple(steps), alone, without, clashes, current, len(current))


def before(
    definition: Definition, ident: str, sets: Mapping[str, BitMap], everyone: BitMap
) -> tuple[BitMap, BitMap]:
    """Who is left before a top line, and who of them after it."""
    current = everyone
    for node in definition.lines:
        after = current if node.off else current & node_set(node, sets, everyone, {})
        if node.id == ident:
            return current, after
        current = after
    return current, current
