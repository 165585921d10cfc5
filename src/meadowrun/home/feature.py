"""Today: what all features come together on."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("Today"), "sample_views": Wording("Today")},
    does=(
        Way(
            Wording("Today"),
            "home.today",
            Wording("start home overview dashboard to-do waiting"),
        ),
        Way(
            Wording("Sample campaign"),
            "sample.show",
            Wording("learn example try practise tutorial training"),
        ),
    ),
)
