"""Campaigns: what belongs together, with its facts."""

from meadowrun.base.manifest import Feature, Way, named
from meadowrun.campaigns.models import Campaign
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("Campaigns")},
    does=(
        Way(
            Wording("Campaigns"),
            "campaigns.table",
            Wording("initiatives projects aims"),
        ),
        Way(
            Wording("New campaign"),
            "campaigns.new",
            Wording("initiative project"),
            often=True,
        ),
    ),
    finds=(named("campaigns.show", Campaign, "campaign"),),
)
