"""What the log of journeys says, worked out line by line, without any of the application's own
counting; and what the judge says of the same people."""

import collections
import datetime as dt
import zoneinfo

import sqlalchemy as sa

from meadowrun.core.journeys.engine import Rules, walk
from meadowrun.core.journeys.one_person import Happened, Person
from meadowrun.core.journeys.steps import Parting
from meadowrun.journeys import queries
from meadowrun.journeys.models import Journey
from tests.store.judged import answered

#: Every line of the log of a journey: entry, lane, when somebody came in, their state and why, when
#: they reached the goal, and the line.
_LOG = """
SELECT e.id, e.lane, e.state, e.because AS ended, e.goal_at, m.at, m.from_step, m.to_step,
    m.because
FROM journey_entries e JOIN journey_moves m ON m.entry_id = e.id
WHERE e.journey_id = :journey AND NOT e.tester ORDER BY e.id, m.id
"""
#: Who came into a journey since a moment, and what is known of them.
_ENTRIES = """
SELECT e.id, e.contact_id, e.began_at, e.lane, e.subject, e.details, e.goal_at,
    coalesce(c.timezone, 'Europe/London') AS zone, c.attributes AS own, o.attributes AS company
FROM journey_entries e JOIN contacts c ON c.id = e.contact_id
LEFT JOIN companies o ON o.id = c.company_id
WHERE e.journey_id = :journey AND e.began_at >= :since AND NOT e.tester
ORDER BY e.id
"""
_EVENTS = """
SELECT k.key, e.at, e.details FROM events e JOIN event_kinds k ON k.id = e.kind_id
WHERE e.contact_id = :contact AND e.at >= :since ORDER BY e.at
"""


def counted(session, journey_id):
    """How many came in, are inside, finished and left; how many came to each step, are on it, and
    went from it for which reason; checks each line against the one before."""
    stand, came, here = collections.Counter(), collections.Counter(), collections.Counter()
    went = collections.defaultdict(collections.Counter)
    by_entry = collections.defaultdict(list)
    for line in session.execute(sa.text(_LOG), {"journey": journey_id}):
        by_entry[line.id].append(line)
    for lines in by_entry.values():
        stand["entered"] += 1
        stand[lines[0].state] += 1
        stand["reached_goal"] += lines[0].goal_at is not None
        assert lines[0].from_step == ""
        for before, after in zip(lines, lines[1:], strict=False):
            assert after.from_step == before.to_step and after.at >= before.at
            went[before.to_step][after.because] += 1
        for line in lines:
            if line.to_step:
                came[line.to_step] += 1
        over = lines[-1].to_step == ""
        assert over == (lines[0].state != "inside")
        if not over:
            here[lines[-1].to_step] += 1
    return stand, came, here, {step: dict(of) for step, of in went.items()}


def held_against_the_judge(session, journey_id, since, until):
    """Walks everybody who came in since a moment alone; gives what the log and the judge say of
    each of whom they do not say the same, and how many were walked."""
    journey = session.get_one(Journey, journey_id)
    itinerary = queries.walked(session, journey)
    rules = Rules.of(itinerary, journey.salt)
    paths = [
        path
        for flat in rules.steps.values()
        if isinstance(flat.step, Parting)
        for path in flat.step.paths
    ]
    entries = session.execute(sa.text(_ENTRIES), {"journey": journey_id, "since": since}).all()
    differ = []
    for entry in entries:
        moves = queries.moves(session, entry.id)
        ended = until
        if moves[-1].because == "withdrew":
            # That is no event: the judge sees them as they were until then.
            *moves, last = moves
            ended = last.at
        person = _person(session, entry, itinerary.subject, paths, moves)
        found = walk(rules, person, entry.began_at, ended, entry.lane, entry.subject)
        said = [(one.to_step, one.at, one.because) for one in moves]
        judged = [(one.step, one.at, one.because) for one in found]
        if entry.lane and said and said[0][2] == "jumped_in":
            judged[0] = (*judged[0][:2], "jumped_in")
        same = [
            mine[:2] == other[:2] and (mine[2] == other[2] or other[2] == "refused")
            for mine, other in zip(said, judged, strict=False)
        ]
        if len(said) != len(judged) or not all(same):
            differ.append((entry.id, entry.goal_at, said, judged, person.events))
    return differ, len(entries)


def _person(session, entry, about, paths, moves):
    """All that the judge must know of somebody. By which path of a branch they go that asks who
    they are is taken from the log: what was so then is not known now."""
    values = {"contact": entry.contact_id, "since": entry.began_at - dt.timedelta(days=1)}
    events = [
        Happened(row.key, row.at, str((row.details or {}).get(about) or "") if about else "")
        for row in session.execute(sa.text(_EVENTS), values)
    ]
    taken = {(before.at, after.because) for before, after in zip(moves, moves[1:], strict=False)}

    def is_one(who, at):
        return any((at, path.id) in taken for path in paths if path.who == who)

    def day(field):
        owner, _, key = field.rpartition(".")
        held = ((entry.company if owner else entry.own) or {}).get(key)
        return dt.date.fromisoformat(held) if held else None

    answers = answered(session, entry.id)
    return Person(
        entry.contact_id,
        zoneinfo.ZoneInfo(entry.zone),
        events,
        is_one,
        lambda step, at: answers.get((step, at)),
        day,
        entry.details,
    )
