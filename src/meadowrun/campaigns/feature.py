"""Campaigns: what belongs together, with its facts."""

from meadowrun.base.manifest import Feature, named
from meadowrun.campaigns.models import Campaign

FEATURE = Feature(
    pages={"views": "Campaigns"},
    does=(("New campaign", "campaigns.new"),),
    finds=(named("campaigns.show", Campaign, "campaign"),),
)
