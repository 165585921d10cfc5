"""The hours at which people react, learnt once a day from their own openings and clicks.

What programs open says nothing about people and is left out. Of several reactions to one message
only the first counts: whoever opens and then clicks was there once.
"""

import datetime as dt
import zoneinfo
from collections.abc import Iterator, Mapping, Sequence

import numpy as np
import numpy.typing as npt
import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.core.audience import definition as d
from meadowrun.core.timing.best_hours import (
    HOURS,
    KNOWN,
    Counts,
    Habits,
    ranked,
    share_near,
    single_best,
)
from meadowrun.core.timing.zones import zone_of
from meadowrun.outgoing.models import HabitsLearnt
from meadowrun.outgoing.timing import ZONES
from meadowrun.people.moment import Moment
from meadowrun.segments.fetching import compiler_for
from meadowrun.segments.models import Segment

#: Reactions of so many days count.
BACK = dt.timedelta(days=400)
#: What was learnt is tried on the reactions of the last so many days.
TRIED = dt.timedelta(days=60)
#: Kinds of people are learnt from about so many of them.
SAMPLE = 40_000
#: So many contacts are read together.
CHUNK = 50_000

#: Contact, hour on their own clock, how many of their reactions began in it; `zones` maps the names
#: of zones that both sides know.
_REACTED = """
WITH firsts AS (
    SELECT r.contact_id, r.dispatch_id, min(r.at) AS at FROM reactions r
    WHERE r.contact_id > :after AND r.contact_id <= :until AND r.contact_id % :every = 0
    AND r.kind IN ('opened', 'clicked') AND NOT r.machine AND r.at >= :since AND r.at < :before
    GROUP BY 1, 2)
SELECT f.contact_id, CAST(extract(hour FROM f.at AT TIME ZONE
    coalesce(CAST(:zones AS jsonb)->>c.timezone, :zone)) AS int) AS hour, count(*) AS times
FROM firsts f JOIN contacts c ON c.id = f.contact_id GROUP BY 1, 2 ORDER BY 1, 2
"""
#: The zones that the database can reckon with.
_KNOWN_ZONES = "SELECT name FROM pg_timezone_names"
_HIGHEST = "SELECT coalesce(max(id), 0) FROM contacts"
_SAVE = """
INSERT INTO best_hours (contact_id, hours, known)
SELECT v.id, CAST(v.hours AS smallint[]), v.known
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(id bigint, hours text, known int)
JOIN contacts c ON c.id = v.id
ON CONFLICT (contact_id) DO UPDATE SET hours = excluded.hours, known = excluded.known
"""
#: Who no longer has reactions that count.
_FORGET = """
DELETE FROM best_hours WHERE contact_id > :after AND contact_id <= :until
AND contact_id <> ALL(:ids)
"""


class _Reader:
    """Reads how often people reacted in each hour of their own clock."""

    def __init__(self, session: orm.Session, zone: zoneinfo.ZoneInfo):
        self._session = session
        known = set(session.scalars(sa.text(_KNOWN_ZONES)))
        names = session.scalars(sa.text(ZONES)).all()
        self.given = {
            "zone": zone.key,
            "zones": orjson.dumps(
                {name: name for name in names if name in known and zone_of(name)}
            ).decode(),
        }
        self.highest: int = session.execute(sa.text(_HIGHEST)).scalar_one()

    def counts(
        self,
        since: dt.datetime,
        before: dt.datetime,
        after: int = 0,
        until: int | None = None,
        every: int = 1,
    ) -> tuple[npt.NDArray[np.int64], Counts]:
        """(contacts, people × hours) of the reactions between two moments of the contacts with
        numbers over `after` and up to `until`, or of every so many of them."""
        asked = self.given | {
            "since": since,
            "before": before,
            "after": after,
            "until": self.highest if until is None else until,
            "every": every,
        }
        rows = self._session.execute(sa.text(_REACTED), asked).all()
        found = np.array(rows, dtype=np.int64).reshape(-1, 3)
        people, place = np.unique(found[:, 0], return_inverse=True)
        counts = np.zeros((len(people), HOURS))
        counts[place, found[:, 1]] = found[:, 2]
        return people, counts


def learn(session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> HabitsLearnt:
    """Learns everybody's hours from their reactions before a moment, after what was learnt from the
    earlier ones was tried on the later."""
    reader = _Reader(session, zone)
    every = max(1, reader.highest // SAMPLE)
    _, sample = reader.counts(now - BACK, now, every=every)
    habits = Habits.learn(sample)
    usual = ranked(habits.of(np.zeros((1, HOURS))))[0].tolist()
    own = few = 0
    for after in range(0, reader.highest, CHUNK):
        until = min(after + CHUNK, reader.highest)
        people, counts = reader.counts(now - BACK, now, after, until)
        _save(session, (after, until), people, counts, habits)
        known = int((counts.sum(axis=1) >= KNOWN).sum())
        own, few = own + known, few + len(people) - known
    tested, single, single_share, own_share = _tried(reader, now, every)
    values = {
        "learnt_at": now,
        "usual": usual,
        "own": own,
        "few": few,
        "tested": tested,
        "single_hour": single,
        "single_share": single_share,
        "own_share": own_share,
    }
    found = session.merge(HabitsLearnt(id=1, **values))
    session.flush()
    return found


def _save(
    session: orm.Session,
    between: tuple[int, int],
    people: npt.NDArray[np.int64],
    counts: Counts,
    habits: Habits,
) -> None:
    """Keeps the hours of the people of a chunk."""
    hours = ranked(habits.of(counts)).tolist()
    known = np.minimum(counts.sum(axis=1), 30_000).astype(int).tolist()
    ids = people.tolist()
    rows = [
        {"id": ident, "hours": "{" + ",".join(map(str, best)) + "}", "known": times}
        for ident, best, times in zip(ids, hours, known, strict=True)
    ]
    if rows:
        session.execute(sa.text(_SAVE), {"rows": orjson.dumps(rows).decode()})
    session.execute(sa.text(_FORGET), {"after": between[0], "until": between[1], "ids": ids})


def _tried(reader: _Reader, now: dt.datetime, every: int) -> tuple[int, int, float, float]:
    """What the reactions before the last days teach, tried on those of the last days: on how many,
    the one best hour for all, the share of them near it, and the share near the hour of each
    person."""
    parted = now - TRIED
    people, before = reader.counts(now - BACK, parted, every=every)
    later_people, later = reader.counts(parted, now, every=every)
    single = single_best(before) if len(before) else 0
    if not len(later) or not len(before):
        return 0, single, 0.0, 0.0
    habits = Habits.learn(before)
    # Whoever reacted only later is known by nothing but what everybody does.
    known = np.zeros((len(later_people), HOURS))
    place = np.searchsorted(people, later_people)
    there = (place < len(people)) & (people[np.minimum(place, len(people) - 1)] == later_people)
    known[there] = before[place[there]]
    chosen = ranked(habits.of(known))[:, 0]
    at_single = np.full(len(later), single)
    return int(later.sum()), single, share_near(later, at_single), share_near(later, chosen)


def learnt(session: orm.Session) -> HabitsLearnt | None:
    """What was learnt the last time; None before the first."""
    return session.get(HabitsLearnt, 1)


#: The hour chosen for a contact with the row `b` of best_hours, if any: the best of :open_hours.
CHOSEN = """(SELECT u.hour FROM unnest(coalesce(b.hours, CAST(:usual AS smallint[])))
    WITH ORDINALITY AS u(hour, place) WHERE u.hour = ANY(CAST(:open_hours AS smallint[]))
    ORDER BY u.place LIMIT 1)"""


def choosing(session: orm.Session, open_hours: list[int]) -> dict[str, list[int]]:
    """The bind values of CHOSEN, for hours at which people can be reached at all."""
    found = learnt(session)
    return {"open_hours": open_hours, "usual": found.usual if found else []}


#: The hour chosen for each of some contacts, in their order.
_HOURS_OF = f"""
SELECT {CHOSEN} FROM unnest(CAST(:contacts AS bigint[])) WITH ORDINALITY AS w(id, place)
LEFT JOIN best_hours b ON b.contact_id = w.id ORDER BY w.place
"""


def hours_chosen(
    session: orm.Session, contacts: Sequence[int], open_hours: list[int]
) -> list[int | None]:
    """The best of some hours of the day for each contact, in their order; None while nothing is
    learnt."""
    values = {"contacts": list(contacts), **choosing(session, open_hours)}
    return list(session.scalars(sa.text(_HOURS_OF), values))


#: Weekday (0 is Monday), hour, how many reactions of people, on their own clock.
_WEEK = """
SELECT CAST(extract(isodow FROM x.local) AS int) - 1 AS day,
    CAST(extract(hour FROM x.local) AS int) AS hour, count(*) AS times
FROM (SELECT r.at AT TIME ZONE coalesce(CAST(:zones AS jsonb)->>c.timezone, :zone) AS local
    FROM reactions r JOIN contacts c ON c.id = r.contact_id
    WHERE r.kind IN ('opened', 'clicked') AND NOT r.machine AND r.at >= :since AND r.at < :before
    AND {among}) x
GROUP BY 1, 2
"""
#: Of how many people how much is known: by their own reactions, by few of them, by none.
_KNOWN_OF = """
SELECT count(*) FILTER (WHERE b.known >= :known) AS own,
    count(*) FILTER (WHERE b.known < :known) AS few,
    count(*) FILTER (WHERE b.known IS NULL) AS none
FROM contacts c LEFT JOIN best_hours b ON b.contact_id = c.id WHERE {among}
"""
#: The best hour → how many people.
_BEST_OF = """
SELECT (coalesce(b.hours, CAST(:usual AS smallint[])))[1] AS hour, count(*) AS people
FROM contacts c LEFT JOIN best_hours b ON b.contact_id = c.id WHERE {among} GROUP BY 1
"""
#: Reactions of so many days are drawn.
DRAWN = dt.timedelta(days=182)


class Week:
    """When the people of a set react: reactions by day of the week and hour, and what is known of
    how many."""

    def __init__(self, moment: Moment, segment: Segment | None):
        """Raises DefinitionError for a segment that has an error."""
        self._session, self._moment = moment.session, moment
        compiler = compiler_for(moment)
        self._among = (
            compiler.definition(d.parse(segment.definition, moment.words)) if segment else "TRUE"
        )
        self._values = dict(compiler.values)

    def _rows(self, asked: str, **values: object) -> Iterator[sa.Row[tuple[int, ...]]]:
        yield from self._session.execute(
            sa.text(asked.format(among=self._among)), self._values | values
        )

    def reactions(self) -> list[list[int]]:
        """Seven days of 24 hours each."""
        reader = _Reader(self._session, self._moment.zone)
        found = [[0] * HOURS for _ in range(7)]
        now = self._moment.now
        for row in self._rows(_WEEK, **reader.given, since=now - DRAWN, before=now):
            found[row.day][row.hour] = row.times
        return found

    def known(self) -> Mapping[str, int]:
        """How many people are known by their own reactions (own), by few of them (few), or by none
        of their own (none)."""
        row = next(self._rows(_KNOWN_OF, known=KNOWN))
        return {"own": row.own, "few": row.few, "none": row.none}

    def best(self) -> list[int]:
        """How many people have each hour of the day as their best; nothing before something was
        learnt."""
        usual = learnt(self._session)
        found = [0] * HOURS
        if usual is None:
            return found
        for row in self._rows(_BEST_OF, usual=usual.usual):
            found[row.hour] = row.people
        return found
