"""People from files."""

from meadowrun.base.manifest import Feature
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("People")},
    tasks=("jobs",),
    does=((Wording("Import people from a file"), "imports.start"),),
)
