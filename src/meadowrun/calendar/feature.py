"""The calendar of all that is planned and gone."""

from meadowrun.base.manifest import Feature, Way
from meadowrun.core.language import Wording

FEATURE = Feature(
    pages={"views": Wording("Calendar"), "feed_views": Wording("Calendar")},
    does=(
        Way(
            Wording("Calendar"),
            "calendar.show",
            Wording("plan schedule upcoming week month clashes dates ical subscribe"),
        ),
    ),
)
