"""What a set of people is like beside others: overlap, comparison, growth."""

import dataclasses
import datetime as dt
from collections.abc import Sequence

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import insert

from meadowrun.core.audience import definition as d
from meadowrun.people.moment import Moment
from meadowrun.segments.looking import look
from meadowrun.segments.models import Segment, SegmentMembers, SegmentSize


def refresh(
    moment: Moment,
    segment: Segment,
) -> BitMap | None:
    """Works a segment out and keeps who is in it and how many; None when its lines need fixing."""
    try:
        definition = d.parse(segment.definition, moment.words, (segment.id,))
    except d.DefinitionError:
        return None
    found = look(moment, definition).sieve.members
    segment.size, segment.sized_at = len(found), moment.now
    values = {"version": segment.version, "as_of": moment.now, "numbers": found.serialize()}
    moment.session.execute(
        insert(SegmentMembers)
        .values(segment_id=segment.id, **values)
        .on_conflict_do_update(index_elements=["segment_id"], set_=values)
    )
    moment.session.execute(
        insert(SegmentSize)
        .values(
            segment_id=segment.id, day=moment.now.astimezone(moment.zone).date(), size=len(found)
        )
        .on_conflict_do_update(index_elements=["segment_id", "day"], set_={"size": len(found)})
    )
    return found


@dataclasses.dataclass(frozen=True)
class Overlap:
    segment: Segment
    shared: int
    size: int
    as_of: dt.datetime


def alike(session: orm.Session, members: BitMap, but: int | None, most: int = 3) -> list[Overlap]:
    """The saved segments that share most with a set (by the Jaccard index), from their sets as last
    updated."""
    if not members:
        return []
    found = []
    for segment, kept in session.execute(
        sa.select(Segment, SegmentMembers).join(
            SegmentMembers, SegmentMembers.segment_id == Segment.id
        )
    ):
        if segment.id != but:
            other = BitMap.deserialize(kept.numbers)
            index = members.jaccard_index(other)
            if index >= 0.05:
                found.append(
                    (
                        index,
                        Overlap(
                            segment, members.intersection_cardinality(other), len(other), kept.as_of
                        ),
                    )
                )
    return [overlap for _, overlap in sorted(found, key=lambda f: -f[0])[:most]]


def growth(
    session: orm.Session, segment_id: int, today: dt.date, days: int = 90
) -> list[tuple[dt.date, int]]:
    """The sizes of the last days on which it was counted, oldest first."""
    return [
        (row.day, row.size)
        for row in session.scalars(
            sa.select(SegmentSize)
            .where(
                SegmentSize.segment_id == segment_id,
                SegmentSize.day >= today - dt.timedelta(days=days),
            )
            .order_by(SegmentSize.day)
        )
    ]


def regions(sets: Sequence[BitMap]) -> dict[tuple[bool, ...], int]:
    """How many are in exactly these of several sets: (in the first, in the second, …) → people,
    without those in none."""
    union = BitMap.union(*sets) if len(sets) > 1 else sets[0]
    found = {}
    for mask in range(1, 2 ** len(sets)):
        inside = tuple(bool(mask >> place & 1) for place in range(len(sets)))
        part = union
        for member, chosen in zip(sets, inside, strict=True):
            part = part & member if chosen else part - member
        found[inside] = len(part)
    return found
