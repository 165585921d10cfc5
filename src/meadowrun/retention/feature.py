"""How long data of people is kept, and its deletion every night."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": ""},
    tasks=("jobs",),
    does=(
        Way(
            Wording("How long data is kept"),
            "retention.show",
            Wording("privacy gdpr delete old erase retention"),
        ),
    ),
)
