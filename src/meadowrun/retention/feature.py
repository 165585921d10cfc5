"""How long data of people is kept, and its deletion every night."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(
    pages={"views": ""}, tasks=("jobs",), does=(("How long data is kept", "retention.show"),)
)
