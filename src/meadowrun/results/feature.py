"""Effect of sending."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording
from meadowrun.results.page import drawn_of_campaign
from meadowrun.results.queries import numbers_of_send, subjects

FEATURE = Feature(
    pages={
        "views": Wording("Results"),
        "leading_views": Wording("Results"),
        "drawn_views": Wording("Results"),
    },
    tasks=("jobs",),
    parts={"campaign.sends": drawn_of_campaign},
    learnt=subjects,
    numbers=numbers_of_send,
    does=(
        Way(
            Wording("Results"),
            "results.table",
            Wording("reports statistics numbers opens clicks performance"),
        ),
    ),
)
