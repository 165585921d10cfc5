"""How many came on each day of the past, and how many certain people there were: by which a
rehearsal foretells how many there will be."""

import dataclasses
import datetime as dt
import itertools

import numpy as np
import sqlalchemy as sa
from pyroaring import BitMap

from meadowrun.core.journeys.outlook import WEEKS, YEAR, Drift, Outlook, drift, outlook
from meadowrun.core.journeys.steps import Who
from meadowrun.journeys.membership import everybody
from meadowrun.people.moment import Moment

#: So many days of the past are looked at: a year, the five weeks before that, and fifteen weeks
#: more, by which it shows how far off looks ahead are.
_SEEN = YEAR + 20 * 7
#: The contacts that were added between two moments.
_ADDED = "SELECT id FROM contacts WHERE created_at > :since AND created_at <= :until"
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


@dataclasses.dataclass(frozen=True, slots=True)
class Changing:
    """How certain people become others: how their number goes on, how many a week are new records,
    and how many of the others come to be among them in a week."""

    drift: Drift = Drift()
    added: float = 0.0
    turned: float = 0.0


def changing(moment: Moment, who: Who, now: BitMap) -> Changing:
    """How certain people become others, who are these now: by who of them was among them on such a
    day of each of the last weeks, as far as what is stored still says so. Of new records a usual
    week counts: one with a large import is not. Raises Invalid."""
    then = [moment.now - dt.timedelta(weeks=weeks) for weeks in range(WEEKS, 0, -1)]
    sets = [everybody(dataclasses.replace(moment, now=one), who) for one in then]
    newer = [
        len(now & BitMap(moment.session.scalars(sa.text(_ADDED), {"since": since, "until": until})))
        for since, until in itertools.pairwise([*then, moment.now])
    ]
    turned = [len(after - before) for before, after in itertools.pairwise([*sets, now])]
    return Changing(
        drift([*map(len, sets), len(now)]),
        float(np.median(newer)),
        float(np.mean(turned)),
    )
