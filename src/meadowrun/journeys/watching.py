"""What no event tells: people become, or stop being, certain people; a date of theirs comes near.

Each journey that asks it is looked at once something changed that it goes by, and every half
minute: new dates come by themselves. Only whose answer changed comes in or leaves.
"""

import dataclasses
import datetime as dt
import time
import zoneinfo

import sqlalchemy as sa
from sqlalchemy import orm

from meadowrun.base.errors import Invalid
from meadowrun.base.logs import log
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.dates import Clock
from meadowrun.core.journeys.steps import ExitRule, Start, Who
from meadowrun.core.journeys.waits import on_clock
from meadowrun.core.language import Wording
from meadowrun.core.timing.zones import zone_of
from meadowrun.journeys import entering
from meadowrun.journeys.entering import Happened
from meadowrun.journeys.leaving import take_off
from meadowrun.journeys.membership import chosen, meant, members
from meadowrun.journeys.models import MOVES, Journey, JourneyDay, JourneySeen, JourneyWatch
from meadowrun.journeys.moves import Move
from meadowrun.journeys.queries import start_since
from meadowrun.journeys.turned import OFTEN, Look, turned, who_turned
from meadowrun.journeys.walks import Walk
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import changes
from meadowrun.segments.compile import Compiler
from meadowrun.segments.fetching import zones

#: Journeys that ask what no event tells, and whose time to be looked at has come, or of whose
#: people something changed that they go by; those first of which everybody was asked about longest
#: ago, so that all have their turn.
_DUE = """
SELECT j.id FROM journeys j
JOIN journey_editions e ON e.journey_id = j.id AND e.number = j.edition
LEFT JOIN journey_watches w ON w.journey_id = j.id
WHERE j.state = ANY(:states)
AND (w.looked_at IS NULL OR w.looked_at + CAST(:often AS interval) <= :now
    OR w.sources && CAST(:changed AS text[]))
AND (jsonb_path_exists(e.itinerary,
        '$.starts[*] ? (@.how == "turns" || @.how == "turns_not" || @.how == "date"
            || @.how == "rhythm")')
    OR jsonb_path_exists(
        e.itinerary, '$.exits[*] ? (@.who.segment > 0 || @.who.lines.size() > 0)'))
ORDER BY w.counted_at NULLS FIRST, j.id
"""
#: What is stored about people that journeys go by which may have anybody come in or leave.
_SOURCES = """
SELECT DISTINCT unnest(w.sources) FROM journey_watches w JOIN journeys j ON j.id = w.journey_id
WHERE j.state = ANY(:states)
"""
#: Those on a journey who are certain people now, locked: their entries. The people that are meant
#: are put in as a predicate over `c`, of some alone where it is only about them.
_INSIDE = """
SELECT e.id FROM journey_entries e JOIN contacts c ON c.id = e.contact_id
WHERE e.journey_id = :journey AND e.state = 'inside'
AND (CAST(:some AS bigint[]) IS NULL OR e.contact_id = ANY(:some))
AND ({predicate}) ORDER BY e.id FOR UPDATE OF e
"""


def look(session: orm.Session, now: dt.datetime, zone: zoneinfo.ZoneInfo) -> int:
    """Looks at every journey whose time has come; says how many people came in or left."""
    changed = changes.take(session, now)
    states = {"states": [*MOVES, "paused"]}
    values = {**states, "often": OFTEN, "now": now, "changed": list(changed)}
    due = session.scalars(sa.text(_DUE), values).all()
    moved = 0
    if due:
        look = Look.of(Moment(session, dictionary(session), now, zone), changed)
        moved = sum(_look_at(look, session.get_one(Journey, ident)) for ident in due)
    if due or changed:
        changes.watch(session, session.scalars(sa.text(_SOURCES), states).all())
    return moved


def _look_at(look: Look, journey: Journey) -> int:
    """Looks at one journey; says how many people came in or left."""
    session, now = look.moment.session, look.moment.now
    walk = Walk.of(session, journey)
    watch = session.get(JourneyWatch, journey.id)
    if watch is None:
        watch = JourneyWatch(journey_id=journey.id, seconds=0.0, sources=[], problem="")
        session.add(watch)
    watch.looked_at = now
    look.begin(watch)
    moved, problems = 0, []
    questions: list[Start | ExitRule] = [*walk.itinerary.starts, *walk.itinerary.exits]
    for asked in questions:
        # One that cannot be asked does not keep the others from going on.
        count, problem = _tried(look, walk, asked)
        moved += count
        if problem:
            problems.append(problem)
    if problems:
        journey.problem = problems[0]
    elif watch.problem and journey.problem == watch.problem:
        journey.problem = ""
    watch.problem = problems[0] if problems else ""
    look.end(watch)
    session.flush()
    return moved


#: What is said where the database refuses a question; why is in the log.
_CANNOT = Wording("A condition of this journey cannot be worked out. Write it another way.")


def _tried(look: Look, walk: Walk, asked: Start | ExitRule) -> tuple[int, str]:
    """How many came in by a start, or left by an exit rule, and why it could not be asked."""
    session = look.moment.session
    try:
        with session.begin_nested():
            return _looked_at(look, walk, asked), ""
    except Invalid as problem:
        said = str(problem)
    except (sa.exc.DataError, sa.exc.ProgrammingError) as fault:
        log.error("fault", journey=walk.journey.id, exception=str(fault))
        said = str(_CANNOT)
    # Whoever turns while it cannot be asked is not known of.
    _forget(session, walk.journey, asked)
    return 0, said


def _key(asked: Start | ExitRule) -> str:
    """By which it is known of whom something was true."""
    return asked.id if isinstance(asked, Start) else f"exit {asked.id}"


def _forget(session: orm.Session, journey: Journey, asked: Start | ExitRule) -> None:
    """Everybody is asked about the next time."""
    session.execute(
        sa.delete(JourneySeen).where(
            JourneySeen.journey_id == journey.id, JourneySeen.start == _key(asked)
        )
    )


def _looked_at(look: Look, walk: Walk, asked: Start | ExitRule) -> int:
    moment, running = look.moment, walk.journey.state == "running"
    if isinstance(asked, ExitRule):
        if not asked.who:
            return 0
        if walk.journey.state in MOVES:
            return _leave(look, walk, asked)
        _forget(moment.session, walk.journey, asked)
        return 0
    if asked.how in ("turns", "turns_not"):
        came = turned(look, walk.journey.id, asked)
        some = [Happened(contact, None, moment.now, None, moment.now) for contact in came]
        return entering.enter(moment.session, walk, some, "start", by=asked.id) if running else 0
    return _dates(moment, walk, asked) if asked.how in ("date", "rhythm") and running else 0


def _leave(look: Look, walk: Walk, rule: ExitRule) -> int:
    """Takes out who has become one of those that a rule takes out."""
    moment, journey = look.moment, walk.journey.id
    some = who_turned(look, journey, _key(rule), rule.who)
    if some is not None and not some:
        return 0
    began = time.monotonic()
    among = None if some is None else list(some)
    compiler, predicate = meant(moment, rule.who, among)
    values = {**compiler.values, "journey": journey, "some": among}
    found = moment.session.scalars(sa.text(_INSIDE.format(predicate=predicate)), values)
    moves = [Move(ident, "", moment.now, rule.id, "left") for ident in found]
    if among is None:
        look.counted(time.monotonic() - began)
    take_off(moment.session, moves)
    return len(moves)


@dataclasses.dataclass(frozen=True, slots=True)
class _Day:
    """One day on one clock: its name (empty: of whoever has none), and its zone."""

    name: str
    zone: zoneinfo.ZoneInfo
    day: dt.date


def _dates(moment: Moment, walk: Walk, start: Start) -> int:
    """Brings in whose date has come, or all whom a day of its rhythm is for, on each clock once for
    each day, at the hour that is set."""
    journey, session = walk.journey, moment.session
    asked = sa.select(JourneyDay).where(
        JourneyDay.journey_id == journey.id, JourneyDay.start == start.id
    )
    known = {row.zone: row for row in session.scalars(asked)}
    began = start_since(session, journey, start)
    named = [(name, zone_of(name)) for name in zones(session)]
    moved = 0
    for name, zone in [("", moment.zone), *((n, z) for n, z in named if z is not None)]:
        today = _day_of(moment.now, zone, start.at)
        mark = known.get(name)
        if mark is None:
            # The first day that counts is that on which it began, if the hour was to come.
            before = _day_of(began, zone, start.at)
            mark = JourneyDay(journey_id=journey.id, start=start.id, zone=name, day=before)
            session.add(mark)
        while mark.day < today:
            mark.day += dt.timedelta(days=1)
            on = _Day(name, zone, mark.day)
            moved += _on_day(moment, walk, start, on, [n for n, z in named if z])
    session.flush()
    return moved


def _day_of(moment: dt.datetime, zone: zoneinfo.ZoneInfo, at: int) -> dt.date:
    """The last day whose hour has come on a clock."""
    day = moment.astimezone(zone).date()
    return day if on_clock(day, at, zone) <= moment else day - dt.timedelta(days=1)


def _on_day(moment: Moment, walk: Walk, start: Start, on: _Day, named: list[str]) -> int:
    """Brings in whose date is on a day of one clock."""
    session = moment.session
    if start.how == "rhythm" and not _is_day(start, on.day):
        return 0
    at = on_clock(on.day, start.at, on.zone)
    if start.how == "rhythm":
        compiler, predicate = meant(moment, start.who)
    else:
        compiler, predicate = _on_date(moment, start, on)
    clock = (
        f"c.timezone = {compiler.bind(on.name)}"
        if on.name
        else f"coalesce(c.timezone, '') <> ALL({compiler.bind(named)})"
    )
    contacts = chosen(session, compiler, f"{clock} AND ({predicate})")
    starts = [Happened(contact, None, at, None, moment.now) for contact in contacts]
    among = let_in(moment, start.who, contacts) if start.how == "date" else None
    return entering.enter(session, walk, starts, "start", among, start.id)


def _is_day(start: Start, day: dt.date) -> bool:
    """Whether a day is one of a rhythm."""
    return next((one for one in start.days() if one >= day), None) == day


def _on_date(moment: Moment, start: Start, on: _Day) -> tuple[Compiler, str]:
    """Whose date is on a day of one clock, as a predicate."""
    wanted = on_clock(on.day + dt.timedelta(days=start.before), 12 * 60, on.zone)
    op = "yearly_next" if start.yearly else "in_next"
    line = {"id": "date", "kind": "field", "field": start.date, "op": op, "value": 0}
    try:
        asked = d.parse({"lines": [line]}, moment.words)
    except d.DefinitionError as problem:
        raise Invalid(str(problem)) from None
    compiler = Compiler(moment.words, Clock(wanted, on.zone))
    return compiler, compiler.definition(asked)


def let_in(moment: Moment, who: Who, contacts: list[int]) -> set[int] | None:
    """Who of some contacts a start takes in; None where it asks nothing of them. Raises Invalid."""
    return set(members(moment, who, contacts)) if who else None
