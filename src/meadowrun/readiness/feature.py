"""Whether everything is set up: one page that tries it."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": ""},
    tasks=("jobs",),
    does=(
        Way(
            Wording("Is everything set up?"),
            "readiness.show",
            Wording(
                "check connection settings mail server ready postal address test gateway spam "
                "deliverability"
            ),
        ),
    ),
)
