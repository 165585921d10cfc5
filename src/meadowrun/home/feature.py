"""Today: what all features come together on."""

from meadowrun.base.manifest import Feature
from meadowrun.core.language import Wording

FEATURE = Feature(pages={"views": Wording("Today")})
