"""Who a set of people is beside everyone: what is more common or rarer there, in their fields, in
what they did lately and in its hours."""

import dataclasses
import datetime as dt
import math
from collections.abc import Mapping
from typing import Any

import numpy as np
import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.db import number_array
from meadowrun.base.kept import Kept
from meadowrun.base.large import is_large
from meadowrun.core import wording
from meadowrun.core.audience.dates import Clock, rolling
from meadowrun.core.audience.fields import Dictionary, FieldSpec
from meadowrun.people.moment import Moment

#: What lately means.
DAYS = 90
#: In a large world, of more than so many people these are asked: a share is then known to less than
#: a point.
ASKED = 20_000
#: Values of a field that are looked at, the commonest.
_VALUES = 60
#: Fields in which everybody differs.
_OWN = ("first_name", "last_name", "email", "reference", "phone", "company.name")
#: Everyone; or those who are asked.
_EVERYONE = "contacts c"
_CHOSEN = "chosen h JOIN contacts c ON c.id = h.id"
_HOURS = """SELECT CASE WHEN hour < 6 THEN 'at night, before 6' WHEN hour < 12 THEN 'in the morning'
WHEN hour < 18 THEN 'in the afternoon'
    ELSE 'in the evening, from 18' END AS part, count(*)
FROM (SELECT extract(hour FROM e.at AT TIME ZONE :zone) AS hour FROM events e {chosen}
WHERE e.at >= :since AND e.at <= :now) x GROUP BY 1"""
_DID = (
    "SELECT e.kind_id, count(DISTINCT e.contact_id) FROM events e {chosen} WHERE e.at >= "
    ":since AND e.at <= :now GROUP BY 1"
)
_BOUNDS = (
    "SELECT percentile_disc(ARRAY[0.25, 0.5, 0.75]) WITHIN GROUP (ORDER BY v), max(v) FROM "
    "({source}) x"
)

Json = dict[str, Any]


#: The values of a field among some people, with how many have each, the most frequent first.
COMMON_VALUES = """SELECT v, count(*) FROM (
    SELECT {value} AS v FROM {source} LEFT JOIN companies k ON k.id = c.company_id) x
WHERE v IS NOT NULL AND v <> '' GROUP BY v ORDER BY 2 DESC, 1 {limit}"""


@dataclasses.dataclass(frozen=True)
class Trait:
    """One thing that is more common, or rarer, in a set than among everyone. Shares are of people,
    from 0 to 1."""

    about: str
    value: str
    here: int
    here_share: float
    everyone_share: float
    #: how many standard errors the two shares are apart (two proportions, pooled)
    strength: float

    @property
    def lift(self) -> float:
        return self.here_share / self.everyone_share if self.everyone_share else math.inf


@dataclasses.dataclass(frozen=True)
class Profile:
    traits: list[Trait]
    #: how many people it is of, and how many of them were asked
    size: int
    asked: int


@dataclasses.dataclass(frozen=True)
class _Beside:
    """`asked` of a set of `size`, beside `everyone`: people, or what they did."""

    asked: int
    size: int
    everyone: int

    def trait(self, about: str, value: str, here: int, total: int) -> Trait | None:
        """A trait by how many of those asked have it, and how many of everyone; None where chance
        alone could bring the difference.

        Judged by the two-proportion z statistic of those asked beside those not in the set; below 3
        it is left out as what chance would bring when many things are compared.
        """
        rest = self.everyone - self.size
        if not self.asked or rest <= 0:
            return None
        share, pooled = here / self.asked, total / self.everyone
        others = max(0.0, total - share * self.size) / rest
        error = math.sqrt(max(0.0, pooled * (1 - pooled)) * (1 / self.asked + 1 / rest))
        strength = (share - others) / error if error else 0.0
        return Trait(about, value, here, share, pooled, strength) if abs(strength) >= 3 else None


#: Everyone's counts take a minute on a million contacts and change little: the worker has them
#: ready.
_totals: Kept[Json] = Kept(name="totals", large=6 * 3600, whatever=True)


def totals(
    moment: Moment,
    fresh: bool = False,
) -> tuple[Json, dt.datetime]:
    """Everyone's counts, as `_counts` gives them, and the moment they are of."""
    key = [(ref, spec.type, spec.key) for ref, spec in sorted(moment.words.fields.items())]
    return _totals.get(
        moment.session, str(key), moment.now, lambda: _counts(moment, _EVERYONE, {}), fresh
    )


def profile(
    moment: Moment,
    members: BitMap,
) -> tuple[Profile, dt.datetime]:
    """What is more common or rarer in a set than among everyone, the surest first; and as of when
    everyone's numbers are."""
    every, as_of = totals(moment)
    asked = _some(members) if is_large(moment.session) else members
    moment.session.execute(
        sa.text("CREATE TEMPORARY TABLE chosen (id bigint PRIMARY KEY) ON COMMIT DROP")
    )
    try:
        moment.session.execute(
            sa.text("INSERT INTO chosen SELECT unnest(CAST(:ids AS bigint[]))"),
            {"ids": number_array(asked)},
        )
        moment.session.execute(sa.text("ANALYZE chosen"))
        here = _counts(moment, _CHOSEN, every["edges"])
    finally:
        moment.session.execute(sa.text("DROP TABLE chosen"))
    traits = _traits(
        here, every, _Beside(len(asked), len(members), every["everyone"]), moment.words
    )
    return Profile(sorted(traits, key=lambda t: -abs(t.strength)), len(members), len(asked)), as_of


def _some(members: BitMap) -> BitMap:
    """Of very many, every so manieth in order of number, so that all times of joining are in it."""
    step = max(1, math.ceil(len(members) / ASKED))
    return members if step == 1 else BitMap(np.array(members, dtype=np.uint32)[::step])


def _traits(here: Json, every: Json, people: _Beside, words: Dictionary) -> list[Trait]:
    found: list[Trait | None] = []
    for ref, spec in words.fields.items():
        if ref in every["edges"]:
            edges = every["edges"][ref]
            shown = [
                wording.number(e)
                if spec.type == "number"
                else wording.day(dt.date.fromisoformat(e))
                for e in edges
            ]
            found += [
                people.trait(
                    spec.label,
                    _band(int(band), shown, spec.type),
                    here["bands"].get(ref, {}).get(band, 0),
                    total,
                )
                for band, total in every["bands"][ref].items()
            ]
        else:
            yes = {"true": "yes", "false": "no"} if spec.type == "yes_no" else {}
            found += [
                people.trait(
                    spec.label,
                    yes.get(value, value),
                    here["values"].get(ref, {}).get(value, 0),
                    total,
                )
                for value, total in every["values"].get(ref, {}).items()
            ]
    did = {str(spec.id): spec.did for spec in words.events.values()}
    found += [
        people.trait(
            f"in the last {DAYS} days", did.get(kind, "?"), here["did"].get(kind, 0), total
        )
        for kind, total in every["did"].items()
    ]
    happened = sum(here["hours"].values())
    events = _Beside(
        happened,
        round(happened * people.size / people.asked) if people.asked else 0,
        sum(every["hours"].values()),
    )
    found += [
        events.trait("does things", part, here["hours"].get(part, 0), total)
        for part, total in every["hours"].items()
    ]
    return [trait for trait in found if trait is not None]


def _counts(
    moment: Moment,
    source: str,
    edges: Mapping[str, list[Any]],
) -> Json:
    """How many people of a source have each value of each field, or lie in each band of it; did
    each thing lately; and how much was done in each part of the day. Bands are by `edges`, or by
    the quarters of those who have one; ready for JSON.
    """
    found: Json = {
        "everyone": moment.session.execute(sa.text(f"SELECT count(*) FROM {source}")).scalar_one(),
        "values": {},
        "bands": {},
        "edges": dict(edges),
    }
    for ref, spec in moment.words.fields.items():
        if spec.is_day or spec.type == "number":
            bounds = edges[ref] if edges else _edges(moment.session, spec, source)
            found["edges"][ref] = bounds
            found["bands"][ref] = _in_bands(moment.session, spec, source, bounds) if bounds else {}
        elif ref not in _OWN:
            found["values"][ref] = _in_values(moment.session, spec, source)
    # The calendar days that a line of a segment means by the same words, on the organisation's
    # clock.
    since = Clock(moment.now, moment.zone).midnight(
        rolling("in_last", DAYS, moment.now.astimezone(moment.zone).date())[0]
    )
    chosen, values = (
        ("JOIN chosen h ON h.id = e.contact_id" if source == _CHOSEN else ""),
        {"since": since, "now": moment.now},
    )
    found["did"] = {
        str(kind): n
        for kind, n in moment.session.execute(sa.text(_DID.format(chosen=chosen)), values).all()
    }
    found["hours"] = dict(
        moment.session.execute(
            sa.text(_HOURS.format(chosen=chosen)), values | {"zone": str(moment.zone)}
        ).all()
    )
    return found


def _in_values(session: orm.Session, spec: FieldSpec, source: str) -> dict[str, int]:
    table = "k" if spec.owner == "company" else "c"
    value = f"{table}.{spec.column}" if spec.column else f"{table}.attributes->>:key"
    if spec.type == "choices":
        value = (
            f"jsonb_array_elements_text(CASE jsonb_typeof({table}.attributes->:key) WHEN "
            f"'array' THEN {table}.attributes->:key END)"
        )
    return dict(
        session.execute(
            sa.text(
                COMMON_VALUES.format(
                    value=value,
                    source=source,
                    limit="" if source == _CHOSEN else f"LIMIT {_VALUES}",
                )
            ),
            {"key": spec.key},
        ).all()
    )


def _banded(spec: FieldSpec, source: str) -> str:
    """A query of the numbers or days, as v, that people of a source have in a field."""
    table = "k" if spec.owner == "company" else "c"
    value = (
        f"as_number({table}.attributes->:key)"
        if spec.type == "number"
        else f"as_day({table}.attributes->>:key)"
    )
    return f"SELECT {value} AS v FROM {source} LEFT JOIN companies k ON k.id = c.company_id"


def _edges(session: orm.Session, spec: FieldSpec, source: str) -> list[Any]:
    """The bounds between the quarters of everyone who has a value: equal ones fall together."""
    quarters, most = session.execute(
        sa.text(_BOUNDS.format(source=_banded(spec, source))), {"key": spec.key}
    ).one()
    return [float(e) if spec.type == "number" else e for e in sorted(set(quarters or ()) - {most})]


def _in_bands(
    session: orm.Session, spec: FieldSpec, source: str, edges: list[Any]
) -> dict[str, int]:
    band = " + ".join(f"CAST(v > :edge{n} AS integer)" for n in range(len(edges)))
    rows = session.execute(
        sa.text(
            f"SELECT {band} AS band, count(*) FROM ({_banded(spec, source)}) x WHERE v IS NOT "
            "NULL GROUP BY 1"
        ),
        {"key": spec.key} | {f"edge{n}": e for n, e in enumerate(edges)},
    ).all()
    return {str(band): n for band, n in rows}


def _band(band: int, shown: list[str], kind: str) -> str:
    low, high = shown[band - 1] if band else None, shown[band] if band < len(shown) else None
    after, until = ("more than", "up to") if kind == "number" else ("after", "until")
    return (
        f"{after} {low}, {until} {high}"
        if low and high
        else f"{after} {low}"
        if low
        else f"{until} {high}"
    )
