"""Who is in a saved segment at this moment, as the steps of journeys ask it."""

from collections.abc import Iterable

import sqlalchemy as sa

from meadowrun.base.errors import Invalid
from meadowrun.core.audience import definition as d
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.models import Segment


def members(moment: Moment, segment_id: int, among: Iterable[int] | None = None) -> list[int]:
    """The contacts in a saved segment, in order; of some contacts only where `among` is given.
    Raises Invalid where the segment is gone or has an error."""
    segment = moment.session.get(Segment, segment_id)
    if segment is None:
        raise Invalid("A segment of this journey is gone. Choose another.")
    compiler = compiler_for(moment)
    try:
        predicate = compiler.definition(d.parse(segment.definition, moment.words))
    except d.DefinitionError as problem:
        raise Invalid(str(problem)) from None
    some = "TRUE" if among is None else "c.id = ANY(:some)"
    asked = f"SELECT c.id FROM contacts c WHERE {some} AND ({predicate}) ORDER BY c.id"
    values = {**compiler.values, "some": list(among or ())}
    return list(moment.session.scalars(sa.text(asked), values))
