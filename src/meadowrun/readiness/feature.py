"""Whether everything is set up: one page that tries it."""

from meadowrun.base.manifest import Feature
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": ""},
    tasks=("jobs",),
    does=((Wording("Is everything set up?"), "readiness.show"),),
)
