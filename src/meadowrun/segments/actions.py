"""Saving segments: every version is kept, and nobody overwrites anybody."""

import datetime as dt
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core.audience import definition as d
from meadowrun.core.audience import english
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.language import Wording
from meadowrun.people.keeping import make_list, work_out_again
from meadowrun.people.models import PeopleList
from meadowrun.people.moment import Moment
from meadowrun.segments import queries
from meadowrun.segments.models import Segment, SegmentVersion


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    words: Dictionary,
    name: str,
    data: Any,
    segment: Segment | None = None,
    based_on: int | None = None,
    size: int | None = None,
) -> Segment:
    """Saves a new segment, or the next version of one.

    Raises Invalid (name or definition), Conflict when the name is taken or somebody saved after
    version `based_on`.
    """
    name = " ".join(name.split())
    if not name:
        raise Invalid("Give the segment a name you will recognise later.", "name")
    try:
        definition = d.dump(d.parse(data, words, (segment.id,) if segment else ()))
    except d.DefinitionError as problem:
        raise Invalid(str(problem), problem.line) from None
    before = _aloud(segment, words, now) if segment else None
    taken = session.scalar(sa.select(Segment).where(Segment.name == name))
    if taken is not None and taken is not segment:
        raise Conflict(
            Wording("There is a segment called “%(name)s” already. Choose another name.", name=name)
        )
    if segment is None:
        segment = Segment(name=name, version=1, definition=definition, created_at=now)
        session.add(segment)
    else:
        _next_version(session, segment, based_on)
        segment.name, segment.definition = name, definition
    segment.changed_at, segment.changed_by = now, actor.name
    segment.size, segment.sized_at = size, now if size is not None else None
    session.flush()
    session.add(
        SegmentVersion(
            segment_id=segment.id,
            version=segment.version,
            name=name,
            definition=definition,
            at=now,
            by=actor.name,
        )
    )
    after = english.read_aloud(d.parse(definition, words), words, now.date())
    reads = audit.from_to({"reads": before}, {"reads": after})
    audit.record(
        session, actor, now, "saved", "segment", segment.id, name, version=segment.version, **reads
    )
    return segment


def _next_version(session: orm.Session, segment: Segment, based_on: int | None) -> None:
    """The segment is the caller's to change, as its next version. Raises Conflict when somebody
    saved after version `based_on`."""
    session.refresh(segment, with_for_update=True)
    if based_on is not None and segment.version != based_on:
        raise Conflict(
            Wording(
                "%(changed_by)s saved this segment while you were editing it. Your lines are "
                "still here.",
                changed_by=segment.changed_by,
            ),
            segment.version,
        )
    segment.version += 1


def _aloud(segment: Segment, words: Dictionary, now: dt.datetime) -> str | None:
    try:
        return english.read_aloud(d.parse(segment.definition, words), words, now.date())
    except d.DefinitionError:
        return None


def usable(segment: Segment, words: Dictionary) -> Definition:
    """A saved segment's definition. Raises Conflict when it names what no longer exists."""
    try:
        return d.parse(segment.definition, words, (segment.id,))
    except d.DefinitionError as problem:
        raise Conflict(
            Wording(
                "“%(name)s” has an error to fix first: %(problem)s",
                name=segment.name,
                problem=problem,
            )
        ) from None


def freeze(
    moment: Moment,
    actor: Actor,
    segment: Segment,
) -> PeopleList:
    """The people of this moment as a fixed list. Raises Conflict when the segment names what no
    longer exists."""
    inside = queries.member_set(moment, usable(segment, moment.words))
    return make_list(
        moment.session,
        actor,
        moment.now,
        segment.name,
        f"the segment “{segment.name}” as it was then",
        list(inside),
        segment.id,
    )


def freeze_again(
    moment: Moment,
    actor: Actor,
    kept: PeopleList,
) -> tuple[Segment, int]:
    """A list that was frozen from a segment takes the people who are in it now: the segment, and
    how many they are. Raises Invalid."""
    if kept.segment_id is None:
        raise Invalid("This list was not frozen from a segment, or the segment is gone.")
    segment = queries.segment(moment.session, kept.segment_id)
    inside = queries.member_set(moment, usable(segment, moment.words))
    work_out_again(moment.session, actor, moment.now, kept, list(inside))
    return segment, len(inside)


def restore(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    words: Dictionary,
    segment: Segment,
    version: int,
) -> Segment:
    """Makes an earlier version the newest again; those in between stay. Raises NotFound, or Invalid
    for what no longer exists."""
    found = next((v for v in queries.versions(session, segment.id) if v.version == version), None)
    if found is None:
        raise NotFound(Wording("There is no version %(version)s of this segment.", version=version))
    return save(session, actor, now, words, segment.name, found.definition, segment)


def delete(
    session: orm.Session, actor: Actor, now: dt.datetime, segment: Segment, uses: list[str]
) -> None:
    """Deletes a segment that nothing uses. Raises Conflict naming what does."""
    if uses:
        raise Conflict(
            Wording(
                "“%(name)s” is used by %(uses)s. Choose another audience there first.",
                name=segment.name,
                uses=", ".join(uses[:5]),
            )
        )
    audit.record(
        session,
        actor,
        now,
        "deleted",
        "segment",
        segment.id,
        segment.name,
        definition=segment.definition,
    )
    session.delete(segment)
