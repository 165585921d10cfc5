"""How many messages people get in a week."""

import dataclasses
import datetime as dt
from collections.abc import Mapping, Sequence

import sqlalchemy as sa

from meadowrun.core.audience import definition as d
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.models import Segment

WEEKS = 8
#: From so many messages in a week on, people are counted together.
MANY = 5

#: Week (its Monday) → how many messages → how many people.
_PER_WEEK = """
SELECT week, least(messages, :many) AS messages, count(*) AS people FROM (
    SELECT date_trunc('week', d.at AT TIME ZONE :zone)::date AS week, d.contact_id,
        count(*) AS messages
    FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
    WHERE d.taken_at >= :taken AND d.at >= :since AND s.channel = ANY(:channels)
    AND d.outcome IN ('delivered', 'in_doubt') AND {among}
    GROUP BY 1, 2) x
GROUP BY 1, 2 ORDER BY 1, 2
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Week:
    """How many people got so many messages in one week: 1, 2, … MANY or more."""

    monday: dt.date
    people: Mapping[int, int]

    @property
    def reached(self) -> int:
        """How many people got something."""
        return sum(self.people.values())


def weeks(moment: Moment, channels: Sequence[str], segment: Segment | None) -> list[Week]:
    """The last weeks, this one last, of everyone or of the people of a segment now. Raises
    DefinitionError for a segment that has an error."""
    today = moment.now.astimezone(moment.zone).date()
    first = today - dt.timedelta(days=today.weekday() + 7 * (WEEKS - 1))
    since = dt.datetime.combine(first, dt.time(), moment.zone)
    compiler = compiler_for(moment)
    among = "TRUE"
    if segment is not None:
        predicate = compiler.definition(d.parse(segment.definition, moment.words))
        among = f"d.contact_id IN (SELECT c.id FROM contacts c WHERE {predicate})"
    asked = {
        **compiler.values,
        "many": MANY,
        "zone": moment.zone.key,
        "since": since,
        "taken": since - dt.timedelta(days=32),
        "channels": list(channels),
    }
    found: dict[dt.date, dict[int, int]] = {}
    for row in moment.session.execute(sa.text(_PER_WEEK.format(among=among)), asked):
        found.setdefault(row.week, {})[row.messages] = row.people
    mondays = (first + dt.timedelta(days=7 * number) for number in range(WEEKS))
    return [Week(monday, found.get(monday, {})) for monday in mondays]
