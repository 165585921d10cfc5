"""Who certain people are at this moment, and what dates they have, as journeys ask it."""

import datetime as dt
from collections.abc import Collection, Iterable
from typing import Any

import sqlalchemy as sa
from pyroaring import BitMap
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.fields import Dictionary
from meadowrun.core.audience.nodes import Definition
from meadowrun.core.journeys.steps import Start, Who
from meadowrun.people.moment import Moment
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import compiler_for, one_pass
from meadowrun.segments.models import Segment

#: What a field of some contacts holds: contact and text. `of` is c for theirs, k for their
#: company's.
_HELD = """
SELECT c.id, {of}.attributes->>:key FROM contacts c LEFT JOIN companies k ON k.id = c.company_id
WHERE c.id = ANY(:contacts)
"""


#: Of so many contacts what is stored is looked up for each; of more it is read as a whole.
FEW = 5000


def definition_of(session: orm.Session, words: Dictionary, who: Who) -> Definition:
    """The definition that says who is meant. Raises Invalid where that is gone or has an error."""
    lines = list(who.lines)
    if who.segment:
        segment = session.get(Segment, who.segment)
        if segment is None:
            raise Invalid("A segment of this journey is gone. Choose another.")
        lines += segment.definition.get("lines", [])
    try:
        return d.parse({"lines": lines}, words)
    except d.DefinitionError as problem:
        raise Invalid(str(problem)) from None


def members(moment: Moment, who: Who, among: Iterable[int] | None = None) -> list[int]:
    """The contacts that are meant, in order; of some contacts only where `among` is given. Raises
    Invalid where it cannot be said."""
    some = None if among is None else list(among)
    few = some if some is not None and len(some) <= FEW else None
    return chosen(moment.session, *meant(moment, who, few), some)


def meant(moment: Moment, who: Who, among: Collection[int] | None = None) -> tuple[Compiler, str]:
    """Who is meant at a moment, as a predicate over contacts `c` and the compiler with its values;
    one that is true of `among` alone, where few are given. Raises Invalid where it cannot be
    said."""
    compiler = compiler_for(moment, among)
    return compiler, compiler.definition(definition_of(moment.session, moment.words, who))


def chosen(
    session: orm.Session, compiler: Compiler, predicate: str, among: Iterable[int] | None = None
) -> list[int]:
    """The contacts for whom a predicate is true, in order."""
    some = "TRUE" if among is None else "c.id = ANY(:some)"
    asked = f"SELECT c.id FROM contacts c WHERE {some} AND ({predicate}) ORDER BY c.id"
    values = {**compiler.values, "some": list(among or ())}
    return list(session.scalars(sa.text(asked), values))


def everybody(moment: Moment, who: Who) -> BitMap:
    """The contacts that are meant, as a set that is cheap at a million. Raises Invalid."""
    compiler, predicate = meant(moment, who)
    return one_pass(moment.session, [predicate], compiler.values)[0]


#: Those to whom an event happened since a moment, with what it said the last time.
_HAPPENED_SINCE = """
SELECT DISTINCT ON (e.contact_id) e.contact_id, e.details FROM events e
JOIN event_kinds n ON n.id = e.kind_id JOIN contacts c ON c.id = e.contact_id
WHERE (n.key = :kind OR :kind = ANY(n.aka)) AND e.at >= :since AND e.at <= :now
ORDER BY e.contact_id, e.at DESC
"""


def lately(moment: Moment, start: Start) -> dict[int, Any]:
    """Those to whom the event of a start happened in the days before now of which it takes people
    in, with what the event said the last time. Raises Invalid."""
    if not start.back:
        return {}
    since = moment.now - dt.timedelta(days=start.back)
    values = {"kind": start.event, "since": since, "now": moment.now}
    rows = moment.session.execute(sa.text(_HAPPENED_SINCE), values)
    found: dict[int, Any] = dict(rows.tuples().all())
    if start.who:
        inside = members(moment, start.who, found)
        found = {contact: found[contact] for contact in inside}
    return found


def days_of(moment: Moment, ref: str, contacts: Collection[int]) -> dict[int, dt.date]:
    """The day that a field of some contacts holds; whoever has none is missing. Of a date with a
    time it is the organisation's day."""
    spec = moment.words.fields.get(ref)
    if spec is None or not spec.is_day:
        return {}
    asked = _HELD.format(of="k" if spec.owner == "company" else "c")
    values = {"key": spec.key, "contacts": list(contacts)}
    found = {}
    for contact, text in moment.session.execute(sa.text(asked), values):
        try:
            read = dt.datetime.fromisoformat(text or "")
        except ValueError:
            continue
        found[contact] = (read.astimezone(moment.zone) if read.tzinfo else read).date()
    return found
