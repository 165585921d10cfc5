"""Scores: points for what people are and do."""

from meadowrun.base.manifest import Feature, Way, named
from meadowrun.core.language import Wording
from meadowrun.scores.condition import SCORE
from meadowrun.scores.models import Score
from meadowrun.scores.page import drawn_of_contact

FEATURE = Feature(
    pages={"views": Wording("People")},
    tasks=("jobs",),
    conditions=(SCORE,),
    does=(
        Way(
            Wording("Scores"),
            "scores.table",
            Wording("points leads engagement readiness"),
        ),
    ),
    parts={"contact.margin": drawn_of_contact},
    finds=(named("scores.show", Score, "score"),),
)
