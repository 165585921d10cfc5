"""Campaigns: what belongs together, with its facts."""

from meadowrun.base.manifest import Feature, named
from meadowrun.campaigns.models import Campaign
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("Campaigns")},
    does=((Wording("New campaign"), "campaigns.new"),),
    finds=(named("campaigns.show", Campaign, "campaign"),),
)
