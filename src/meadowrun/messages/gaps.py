"""For how many of those who read a place what it fills in is blank: in a version that few read,
only these few count."""

import dataclasses
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.kept import Kept
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.content import fillins
from meadowrun.core.content.lines import Json
from meadowrun.messages import asking, readership, reading
from meadowrun.messages.values import nested
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import id_sets

_counts: Kept[dict[str, int]] = Kept()
_sets: Kept[dict[str, BitMap]] = Kept()


@dataclasses.dataclass(frozen=True, slots=True)
class Gap:
    """A fill-in at a place, and for how many of its readers it is blank."""

    line: str
    slot: str
    ref: str
    fallback: str | None
    blank: int
    readers: int


@dataclasses.dataclass(frozen=True, slots=True)
class _Place:
    """A fill-in that somebody reads: `people` are those who do, None for all that the message is
    for."""

    line: str
    slot: str
    fill: fillins.FillIn
    people: BitMap | None


@dataclasses.dataclass(frozen=True)
class _About:
    """What is needed to tell who reads a branch."""

    moment: Moment
    asked: dict[str, list[Json]]
    among: BitMap | None


def gaps_of(
    moment: Moment,
    document: Json,
    texts: Iterable[tuple[str, str, str]],
    among: BitMap | None,
) -> list[Gap]:
    """Each fill-in of `texts` (line, slot, text) that is blank for some of its readers, among some
    or everyone.

    Who reads a line inside an “only if”, or words by a condition of segments, is told exactly.
    Words by a field's value count all readers of their line, but for the very field that was asked:
    where it decides, it is not blank.
    """
    inside = reading.readers_inside(moment, document, among)
    about = _About(
        moment,
        asking.of_document(moment.session, document, document["lines"]),
        among,
    )
    places = [
        place
        for line, slot, text in texts
        for place in _places(about, line, slot, fillins.tree(text), inside.get(line), frozenset())
    ]
    apart = {p.fill.ref for p in places if p.people is not None}
    everywhere = sorted({p.fill.ref for p in places if p.people is None})
    ids = None if among is None else list(among)
    count, _ = _counts.get(
        moment.session,
        (tuple(everywhere), None if among is None else hash(among.serialize())),
        moment.now,
        lambda: readership.blanks(moment.session, everywhere, moment.words, ids),
    )
    sets, _ = _sets.get(
        moment.session,
        tuple(sorted(apart)),
        moment.now,
        lambda: _blank(moment.session, apart, moment.words),
    )
    total = len(among) if among is not None else readership.everyone(moment.session)
    found = []
    for place in places:
        ref = place.fill.ref
        blank, readers = (
            (count.get(ref, 0), total)
            if place.people is None
            else (len(place.people & sets[ref]) if ref in sets else 0, len(place.people))
        )
        if blank:
            found.append(Gap(place.line, place.slot, ref, place.fill.fallback, blank, readers))
    return found


def counted(gaps: Iterable[Gap]) -> dict[tuple[str, str, str], tuple[int, int]]:
    """Gaps without a fallback, by line, slot and ref: for how many of its readers something is
    blank, and these readers. Where a name stands more than once, the place that hits most people.
    """
    bare = sorted((gap for gap in gaps if gap.fallback is None), key=lambda gap: gap.blank)
    return {(gap.line, gap.slot, gap.ref): (gap.blank, gap.readers) for gap in bare}


def _blank(session: orm.Session, refs: Iterable[str], words: Dictionary) -> dict[str, BitMap]:
    """The people for whom each ref is blank."""
    tests, values = readership.blank_tests(session, sorted(refs), words)
    if not tests:
        return {}
    predicates = [
        (
            "c.id IN (SELECT c.id FROM contacts c LEFT JOIN companies k ON k.id = c.company_id "
            f"WHERE {test})"
        )
        for test in tests.values()
    ]
    return dict(zip(tests, id_sets(session, predicates, values), strict=True))


def _places(
    about: _About,
    line: str,
    slot: str,
    nodes: Sequence[fillins.Node],
    people: BitMap | None,
    filled: frozenset[str],
) -> Iterator[_Place]:
    """The fill-ins among nodes, each with who reads it; what is in `filled` is not blank there."""
    for node in nodes:
        if isinstance(node, fillins.FillIn):
            if node.ref not in filled:
                yield _Place(line, slot, node, people)
        elif isinstance(node, fillins.Each):
            yield from _places(about, line, slot, node.body, people, filled)
        elif isinstance(node, fillins.When):
            for refs, body, readers in _branches(about, node, people):
                yield from _places(about, line, slot, body, readers, filled | refs)


def _branches(
    about: _About, node: fillins.When, people: BitMap | None
) -> Iterator[tuple[set[str], Sequence[fillins.Node], BitMap | None]]:
    """Each branch with the names its test asks, and who reads it."""
    bodies: list[tuple[set[str], Sequence[fillins.Node]]] = [
        (set(test.refs), body) for test, body in node.branches
    ]
    bodies.append((set(), node.otherwise))
    keys = {ref.removeprefix("when.") for refs, _ in bodies for ref in refs}
    if not keys <= about.asked.keys():
        yield from ((refs, body, people) for refs, body in bodies)
        return
    split = [BitMap() for _ in bodies]
    groups: list[tuple[dict[str, Any], BitMap]] = reading.answers(
        about.moment,
        {key: about.asked[key] for key in sorted(keys)},
        about.among if people is None else people,
    )
    for flat, who in groups:
        values = nested(flat, {})
        split[
            next(
                (n for n, (test, _) in enumerate(node.branches) if test.ask(values)),
                len(node.branches),
            )
        ] |= who
    yield from ((refs, body, readers) for (refs, body), readers in zip(bodies, split, strict=True))
