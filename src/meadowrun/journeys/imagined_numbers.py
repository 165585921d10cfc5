"""How many came on each day of the past, and how many certain people there were: by which a
rehearsal foretells how many there will be."""

import dataclasses
import datetime as dt

import sqlalchemy as sa

from meadowrun.core.journeys.outlook import WEEKS, YEAR, Drift, Outlook, drift, outlook
from meadowrun.core.journeys.steps import Who
from meadowrun.journeys.membership import everybody
from meadowrun.people.moment import Moment

#: So many days of the past are looked at: the weeks ahead as they were a year ago, the weeks before
#: them, and as much again for what is short.
_SEEN = YEAR + 140
#: To how many an event happened on each day of a clock.
_A_DAY = """
SELECT (e.at AT TIME ZONE :zone)::date AS day, count(*)
FROM events e JOIN event_kinds n ON n.id = e.kind_id
WHERE (n.key = :kind OR :kind = ANY(n.aka)) AND e.at >= :since AND e.at < :now
GROUP BY 1
"""


def outlook_of(moment: Moment, kind: str, days: int) -> Outlook:
    """To how many an event will happen in some days from today on, beside the last five weeks."""
    today = moment.now.astimezone(moment.zone).date()
    values = {
        "kind": kind,
        "zone": str(moment.zone),
        "since": moment.now - dt.timedelta(days=_SEEN + 1),
        "now": moment.now,
    }
    on: dict[dt.date, int] = dict(moment.session.execute(sa.text(_A_DAY), values).tuples().all())
    past = [today - dt.timedelta(days=back) for back in range(_SEEN, 0, -1)]
    return outlook([on.get(day, 0) for day in past], days)


def drift_of(moment: Moment, who: Who, now: int) -> Drift:
    """How the number of certain people goes on, who are so many now: by how many of those who are
    there now were among them on such a day of each of the last weeks, as far as what is stored
    still says so. Raises Invalid."""
    numbers = []
    for weeks in range(WEEKS, 0, -1):
        then = moment.now - dt.timedelta(weeks=weeks)
        numbers.append(len(everybody(dataclasses.replace(moment, now=then), who)))
    return drift([*numbers, now])
