"""Today and the calendar: what all features come together on."""

from meadowrun.base.manifest import Feature

FEATURE = Feature(pages={"views": "Today", "calendar_views": "Calendar"})
