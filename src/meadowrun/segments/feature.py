"""Segments and groupings: who, by sentences."""

from meadowrun.base.manifest import Feature, Way, named
from meadowrun.core.language import Wording
from meadowrun.segments.conditions import CONDITIONS
from meadowrun.segments.models import Grouping, Segment

FEATURE = Feature(
    pages={
        "views": Wording("People"),
        "insight_views": Wording("People"),
        "comparing_views": Wording("People"),
        "grouping_views": Wording("People"),
    },
    tasks=("jobs",),
    conditions=CONDITIONS,
    does=(
        Way(
            Wording("Segments"),
            "segments.table",
            Wording("audiences filters target groups conditions"),
        ),
        Way(
            Wording("New segment"),
            "segments.new",
            Wording("audience filter conditions"),
            often=True,
        ),
        Way(
            Wording("Compare people"),
            "comparing.compare",
            Wording("overlap in both difference segments lists"),
        ),
        Way(
            Wording("Groupings"),
            "groupings.table",
            Wording("groups categories personas everyone else"),
        ),
        Way(
            Wording("Compare two groupings"),
            "comparing.compare_groupings",
            Wording("groups cross table matrix by"),
        ),
    ),
    finds=(
        named("segments.edit", Segment, "segment"),
        named("groupings.show", Grouping, "grouping"),
    ),
)
