"""Scores: points for what people are and do."""

from meadowrun.base.manifest import Feature, named
from meadowrun.scores.models import Score

FEATURE = Feature(
    pages={"views": "People"},
    tasks=("jobs",),
    does=(("Scores", "scores.table"),),
    finds=(named("scores.show", Score, "score"),))
