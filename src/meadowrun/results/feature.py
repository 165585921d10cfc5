"""What sending did."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(pages={"views": "Results"}, tasks=("jobs",))
