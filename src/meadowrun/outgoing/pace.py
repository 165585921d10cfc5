"""How fast a dispatch goes, and which mail servers ask to come later.

Counted by true time, minute by minute: the demo's clock stands still while it waits.
"""

import dataclasses
from collections import Counter
from collections.abc import Iterable

import orjson
import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.outgoing.speeds import domain_of

#: So many domains of a batch are told apart; the others count together.
MOST_DOMAINS = 8
#: What was handed over in so many minutes tells the speed.
MINUTES = 5

_NOTE = """
INSERT INTO paces (dispatch_id, minute, domain, handed, delayed, began, ended)
SELECT :dispatch, date_trunc('minute', clock_timestamp()), v.domain, v.handed, v.delayed,
    clock_timestamp() - make_interval(secs => :seconds), clock_timestamp()
FROM jsonb_to_recordset(CAST(:rows AS jsonb)) AS v(domain text, handed int, delayed int)
ORDER BY v.domain
ON CONFLICT (dispatch_id, minute, domain) DO UPDATE SET
    handed = paces.handed + excluded.handed, delayed = paces.delayed + excluded.delayed,
    began = least(paces.began, excluded.began), ended = greatest(paces.ended, excluded.ended)
"""


def note(
    session: orm.Session,
    dispatch_id: int,
    seconds: float,
    handed: Iterable[str],
    delayed: Iterable[str],
) -> None:
    """Notes what one batch handed over within some seconds: the addresses, and those whose server
    asked to come later."""
    went, later = Counter(map(domain_of, handed)), Counter(map(domain_of, delayed))
    counted = went + later
    if not counted:
        return
    kept = {domain for domain, _ in counted.most_common(MOST_DOMAINS)}
    rows: dict[str, list[int]] = {}
    for place, counts in enumerate((went, later)):
        for domain, times in counts.items():
            rows.setdefault(domain if domain in kept else "", [0, 0])[place] += times
    given = [
        {"domain": domain, "handed": handed, "delayed": delayed}
        for domain, (handed, delayed) in rows.items()
    ]
    session.execute(
        sa.text(_NOTE),
        {"dispatch": dispatch_id, "seconds": seconds, "rows": orjson.dumps(given).decode()},
    )


_SPEED = """
SELECT sum(handed) / nullif(extract(epoch FROM max(ended) - min(began)), 0) * 60 AS a_minute
FROM paces WHERE dispatch_id = :id
AND minute > date_trunc('minute', clock_timestamp()) - make_interval(mins => :minutes)
"""
_DELAYED = """
SELECT domain, CAST(sum(delayed) AS int) AS delayed, CAST(sum(handed + delayed) AS int) AS tried
FROM paces WHERE dispatch_id = :id AND domain <> ''
AND minute > date_trunc('minute', clock_timestamp()) - make_interval(mins => 2 * :minutes)
GROUP BY 1 HAVING sum(delayed) > 0 ORDER BY 2 DESC, 1 LIMIT 5
"""


@dataclasses.dataclass(frozen=True, slots=True)
class Delayed:
    """A domain whose mail server asks us to try later: for how many, of how many tried."""

    domain: str
    delayed: int
    tried: int


@dataclasses.dataclass(frozen=True, slots=True)
class Pace:
    """How fast a dispatch goes now."""

    #: people a minute; None while nothing was handed over lately
    a_minute: float | None
    delayed: tuple[Delayed, ...]

    def minutes_for(self, people: int) -> float | None:
        """How long so many people take; None where that is not known."""
        return people / self.a_minute if self.a_minute else None


def pace(session: orm.Session, dispatch_id: int) -> Pace:
    """How fast a dispatch went in the last minutes."""
    asked = {"id": dispatch_id, "minutes": MINUTES}
    speed = session.execute(sa.text(_SPEED), asked).scalar()
    rows = session.execute(sa.text(_DELAYED), asked)
    return Pace(float(speed) if speed else None, tuple(Delayed(*row) for row in rows))
