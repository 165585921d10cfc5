"""Files."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(pages={"views": "Messages"})
