"""People from files."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("People")},
    tasks=("jobs",),
    does=(
        Way(
            Wording("Import people from a file"),
            "imports.start",
            Wording("upload csv xlsx excel spreadsheet contacts"),
            often=True,
        ),
        Way(
            Wording("Imports so far"),
            "imports.table",
            Wording("uploads history"),
        ),
    ),
)
