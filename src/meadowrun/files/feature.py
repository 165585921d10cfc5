"""Files."""

from meadowrun.base.manifest import Feature
from meadowrun.core.language import Wording

FEATURE = Feature(pages={"views": Wording("Messages")})
