"""Effect of sending."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording
from meadowrun.results.page import drawn_of_campaign, drawn_of_send, drawn_together
from meadowrun.results.queries import numbers_of_send, subjects

FEATURE = Feature(
    pages={
        "views": Wording("Results"),
        "leading_views": Wording("Results"),
        "drawn_views": Wording("Results"),
    },
    tasks=("jobs",),
    parts={
        "campaign.sends": drawn_of_campaign,
        "campaign.margin": drawn_together,
        "send.margin": drawn_of_send,
    },
    learnt=subjects,
    numbers=numbers_of_send,
    does=(
        Way(
            Wording("Results"),
            "results.table",
            Wording(
                "reports statistics numbers opens opened open rate clicks clicked click rate "
                "performance export download bounce unsubscribes"
            ),
        ),
    ),
)
