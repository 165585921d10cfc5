"""Holidays: days on which sends that name them do not reach anybody, of a country or from a file.

The packages that know countries and read calendar files take 15 MB: they are imported where they
are used, since every worker has this module and hardly one needs them.
"""

import datetime as dt
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base import audit
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core.countries import names
from meadowrun.core.language import Wording
from meadowrun.core.timing.hours import Hours
from meadowrun.outgoing.models import Holidays

#: Days of a country are worked out for so many years from last year on.
YEARS = 4
#: The largest file of days, and the most days of one.
MOST_BYTES = 1_000_000
MOST_DAYS = 2_000


def all_of(session: orm.Session) -> list[Holidays]:
    """All holidays, by name."""
    return list(session.scalars(sa.select(Holidays).order_by(Holidays.name)))


def hours_of(session: orm.Session, kept: Mapping[str, Any]) -> Hours:
    """The hours that a send or dispatch keeps, with the days that its holidays close."""
    found = session.get(Holidays, kept["calendar"]) if kept.get("calendar") else None
    days = found.days if found else {}
    return Hours.of(kept, [dt.date.fromisoformat(day) for day in days])


def countries() -> dict[str, str]:
    """Countries whose public holidays are known: code → name, by name."""
    import holidays

    known = {classes[1] for classes in holidays.registry.COUNTRIES.values()}
    found = {code: name for code, name in names().items() if code in known}
    return dict(sorted(found.items(), key=lambda one: one[1]))


def of_country(country: str, year: int) -> dict[str, str]:
    """Public holidays of a country around a year: ISO date → name. Raises Invalid."""
    import holidays

    code, _, part = country.partition("-")
    try:
        days = holidays.country_holidays(
            code, subdiv=part or None, years=range(year - 1, year - 1 + YEARS), language="en_US"
        )
    except NotImplementedError:
        raise Invalid("There are no holidays on file for this country.", "country") from None
    return {day.isoformat(): name for day, name in sorted(days.items())}


def of_file(data: bytes) -> dict[str, str]:
    """The days of an iCalendar file: ISO date → name; an event of several days closes each of them.
    Raises Invalid."""
    import icalendar

    if len(data) > MOST_BYTES:
        raise Invalid("The file is larger than 1 MB.", "file")
    try:
        events = icalendar.Calendar.from_ical(data).walk("VEVENT")
    except (ValueError, IndexError, KeyError) as problem:
        raise Invalid(
            Wording("This is not an iCalendar file: %(problem)s", problem=str(problem)[:200]),
            "file",
        ) from None
    found: dict[str, str] = {}
    for event in events:
        for day in _days_of(event):
            found[day.isoformat()] = str(event.get("SUMMARY", ""))[:200]
            if len(found) > MOST_DAYS:
                raise Invalid("The file has more than 2,000 days.", "file")
    if not found:
        raise Invalid("The file names no day.", "file")
    return dict(sorted(found.items()))


def _days_of(event: Any) -> list[dt.date]:
    """The days that one event of an iCalendar file takes; its end is not part of it."""
    begins = event.get("DTSTART")
    if begins is None:
        return []
    first = _date(begins.dt)
    last = event.get("DTEND")
    length = event.get("DURATION")
    after = _date(last.dt) if last is not None else first
    if last is None and length is not None:
        after = first + length.dt
    count = min(max(1, (after - first).days), MOST_DAYS + 1)
    return [first + dt.timedelta(days=number) for number in range(count)]


def _date(value: dt.date) -> dt.date:
    return value.date() if isinstance(value, dt.datetime) else value


def save(
    session: orm.Session,
    actor: Actor,
    now: dt.datetime,
    name: str,
    country: str,
    data: bytes | None,
) -> Holidays:
    """Adds holidays of a country, or of an iCalendar file. Raises Invalid or Conflict."""
    if bool(country) == bool(data):
        raise Invalid("Choose a country, or a file with the days.", "country")
    known = countries()
    if country and country.partition("-")[0] not in known:
        raise Invalid("There are no holidays on file for this country.", "country")
    name = " ".join(name.split())[:100] or known.get(country, "")
    if not name:
        raise Invalid("Give these days a name.", "name")
    if session.scalar(sa.select(Holidays.id).where(Holidays.name == name)):
        raise Conflict(Wording("“%(name)s” exists already.", name=name))
    days = of_file(data) if data else of_country(country, now.year)
    made = Holidays(name=name, country=country, days=days, changed_by=actor.name, changed_at=now)
    session.add(made)
    session.flush()
    audit.record(session, actor, now, "added the holidays", "holidays", made.id, name)
    return made


def delete(session: orm.Session, actor: Actor, now: dt.datetime, ident: int) -> str:
    """Takes holidays away that nothing names. Gives their name; raises NotFound or Conflict."""
    found = session.get(Holidays, ident, with_for_update=True)
    if found is None:
        raise NotFound("These holidays do not exist any more.")
    named = session.scalar(
        sa.text(
            "SELECT name FROM sends WHERE (hours->>'calendar')::bigint = :id "
            "AND state <> 'done' AND state <> 'stopped' LIMIT 1"
        ),
        {"id": ident},
    )
    if named:
        raise Conflict(Wording("“%(send)s” keeps these days. Change it first.", send=named))
    name = found.name
    session.delete(found)
    audit.record(session, actor, now, "deleted the holidays", "holidays", ident, name)
    return name


def renew(session: orm.Session, now: dt.datetime) -> None:
    """Works out the days of countries anew, so that there are always those of the next years."""
    for one in session.scalars(sa.select(Holidays).where(Holidays.country != "")):
        days = of_country(one.country, now.year)
        if days != one.days:
            one.days = days
