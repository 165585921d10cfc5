"""What sending did."""

from meadowrun.base.manifest import Feature
from meadowrun.results.page import drawn_of_campaign

FEATURE = Feature(pages={"views": "Results"}, tasks=("jobs",), parts={"campaign.sends": drawn_of_campaign})
