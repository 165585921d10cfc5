"""People from files."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(
    pages={"views": "People"},
    tasks=("jobs",),
    does=(("Import people from a file", "imports.start"),),
)
