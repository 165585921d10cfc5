"""Segments, and who is in them, straight from the database."""

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm
from sqlalchemy.dialects.postgresql import JSONPATH

from meadowrun.base.db import existing
from meadowrun.core.audience.nodes import Definition
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import definitions_using
from meadowrun.segments.fetching import compiler_for, id_sets
from meadowrun.segments.models import Segment, SegmentVersion


def count(
    moment: Moment,
    definition: Definition,
) -> int:
    """How many match, straight from the database."""
    compiler = compiler_for(moment)
    predicate = compiler.definition(definition)
    total: int = moment.session.execute(
        sa.text(f"SELECT count(*) FROM contacts c WHERE {predicate}"), compiler.values
    ).scalar_one()
    return total


def member_set(
    moment: Moment,
    definition: Definition,
) -> BitMap:
    """Everyone who matches, straight from the database."""
    compiler = compiler_for(moment)
    (found,) = id_sets(moment.session, [compiler.definition(definition)], compiler.values)
    return found


def members(session: orm.Session, ids: BitMap, most: int, after: int = 0) -> list[Contact]:
    """Up to `most` contacts of a set with numbers above `after`, in order of number."""
    # No number in a set is larger than that.
    place = ids.rank(min(after, 2**32 - 1))
    chosen = list(ids[place : place + most]) if place < len(ids) else []
    return list(
        session.scalars(sa.select(Contact).where(Contact.id.in_(chosen)).order_by(Contact.id))
    )


def segment(session: orm.Session, segment_id: int) -> Segment:
    return existing(session, Segment, segment_id, "segment")


def segments(session: orm.Session) -> list[Segment]:
    return list(session.scalars(sa.select(Segment).order_by(Segment.name)))


def naming(session: orm.Session, kind: str, key: str, number: int) -> list[Segment]:
    """The segments with a line, at any depth, of this kind whose `key` is this number."""
    path = sa.cast(f'$.** ? (@.kind == "{kind}" && @.{key} == {int(number)})', JSONPATH)
    return list(
        session.scalars(
            sa.select(Segment)
            .where(sa.func.jsonb_path_exists(Segment.definition, path))
            .order_by(Segment.name)
        )
    )


def users(session: orm.Session, segment_id: int) -> list[str]:
    """What else is made of a segment, in words: other segments, groupings, messages and kept
    rows."""
    return definitions_using(
        session, f'$.** ? (@.kind == "segment" && @.segment == {int(segment_id)})'
    )


def versions(session: orm.Session, segment_id: int) -> list[SegmentVersion]:
    return list(
        session.scalars(
            sa.select(SegmentVersion)
            .where(SegmentVersion.segment_id == segment_id)
            .order_by(SegmentVersion.version.desc())
        )
    )
