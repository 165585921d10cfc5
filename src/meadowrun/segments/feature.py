"""Segments and groupings: who, by sentences."""

from meadowrun.base.manifest import Feature, named
from meadowrun.segments.conditions import CONDITIONS
from meadowrun.segments.models import Segment

FEATURE = Feature(
    pages={"views": "People", "insight_views": "People", "grouping_views": "People"},
    tasks=("jobs",),
    conditions=CONDITIONS,
    does=(("New segment", "segments.new"),),
    finds=(named("segments.edit", Segment, "segment"),),
)
