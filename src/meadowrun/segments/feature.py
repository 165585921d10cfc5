"""Segments and groupings: who, by sentences."""

from meadowrun.base.manifest import Feature, named
from meadowrun.core.language import Wording
from meadowrun.segments.conditions import CONDITIONS
from meadowrun.segments.models import Segment

FEATURE = Feature(
    pages={
        "views": Wording("People"),
        "insight_views": Wording("People"),
        "grouping_views": Wording("People"),
    },
    tasks=("jobs",),
    conditions=CONDITIONS,
    does=((Wording("New segment"), "segments.new"),),
    finds=(named("segments.edit", Segment, "segment"),),
)
