"""Random itineraries and histories, walked by the database for everybody at once and by the judge
for each person alone: they agree on every step, its moment and its reason."""

import collections
import dataclasses
import datetime as dt

import hypothesis
import pytest
import sqlalchemy as sa
from hypothesis import strategies as st

from meadowrun.base import clock
from meadowrun.base.db import rows_changed
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.chance import in_control
from meadowrun.core.journeys.engine import Rules
from meadowrun.core.journeys.flat import END, flatten
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import ExitRule, Goal, GoalStep, Start, WaitForStep, WaitStep
from meadowrun.journeys import actions, checking, queries
from meadowrun.journeys.models import JourneyEdition, JourneyEntry
from meadowrun.messages.models import Message
from meadowrun.people import duplicates, wholly
from meadowrun.people.models import Field
from meadowrun.tracking.actions import react
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.itineraries import SOMEWHERE, in_lanes, spans, steps
from tests.store.counted_journeys import agree
from tests.store.histories import (
    EVERYBODY,
    INSIDE,
    PEOPLE,
    RENEWALS,
    SAID_NO,
    UNTIL,
    ZONES,
    histories,
)
from tests.store.journeys import advance, due_next
from tests.store.judged import Edition, Lane, answered
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.sending import segment

#: What the runs covered: kinds of step that somebody stood on, and reasons.
COVERED: collections.Counter = collections.Counter()
#: Where somebody lives, and by which clock, before anything changes.
AS_AT_FIRST = "UPDATE contacts SET timezone = :zone, town = :town WHERE id = :id"
HOLDS = """
UPDATE contacts SET attributes = jsonb_build_object('renewal', CAST(:day AS text)) WHERE id = :id
"""


def begin_anew(session):
    """Everybody as at first, whatever became of them in the run before."""
    for table in ("events", "merges", "contacts"):
        session.execute(sa.text(f"DELETE FROM {table}"))
    session.execute(sa.text("ALTER TABLE contacts ALTER COLUMN id RESTART"))
    many(session, NOW, PEOPLE)
    for contact in EVERYBODY:
        values = {
            "zone": ZONES[(contact - 1) % 4],
            "town": "Farrow" if contact in INSIDE else None,
            "id": contact,
        }
        session.execute(sa.text(AS_AT_FIRST), values)
    for contact, day in RENEWALS.items():
        session.execute(sa.text(HOLDS), {"day": day, "id": contact})
    session.execute(
        sa.text("UPDATE consents SET agreed = false WHERE contact_id = :id"), {"id": SAID_NO}
    )
    # What brings people in is known before the journey runs.
    old = {"event": "began", "contact": 1, "at": "2026-01-01T00:00+00:00"}
    take_events(session, NOW, "t", [old])


@pytest.fixture
def world(database, settings, job_context, keeper, monkeypatch):
    """People on four clocks, one of whom said no; two messages, a segment of those who have a town
    and a campaign."""
    # A random itinerary is used whatever a check would say of it.
    monkeypatch.setattr(checking, "findings", lambda *asked: [])
    with clock.at(NOW), database.session() as session:
        session.add(
            Field(owner="contact", key="renewal", label="renewal", type="date", created_at=NOW)
        )
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        line = {"id": "a", "kind": "field", "field": "town", "op": "not_blank"}
        ready_send(session, NOW, {"in": [], "out": []})
        return (
            tuple(session.scalars(sa.select(Message.id).order_by(Message.id))),
            segment(session, [line]).id,
            send.campaign_id,
        )


def started(database, campaign_id, itinerary):
    """A journey that runs from NOW on."""
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(Campaign, campaign_id)
        journey = actions.create(session, IDA, NOW, campaign, "A journey")
        journey.edition, journey.state = 1, "running"
        journey.started_at, journey.started_by = NOW, "Ida"
        session.add(
            JourneyEdition(
                journey_id=journey.id, number=1, itinerary=to_json(itinerary), by="Ida", at=NOW
            )
        )
        session.flush()
        actions.note_heard(session)
        return journey.id


#: Who got, or might have got, something of a journey.
GOT = """
SELECT d.contact_id FROM deliveries d JOIN dispatches s ON s.id = d.dispatch_id
WHERE s.owner_kind = 'journey' AND s.owner_id = :journey
AND d.outcome IN ('delivered', 'bounced', 'in_doubt')
"""
#: Has each call of a webhook answered, or given up where the contact's number is one of FAILS.
CALLED = """
UPDATE journey_calls c
SET state = CASE WHEN e.contact_id = ANY(:fails) THEN 'failed' ELSE 'done' END,
    done_at = :now
FROM journey_entries e WHERE e.id = c.entry_id AND c.state = 'waiting'
"""
FAILS = [3, 6]
#: What takes people out: mostly nothing.
rules = st.sampled_from(
    (
        (),
        (),
        (ExitRule("x1", "ticket_bought"),),
        (ExitRule("x1", "gone"), ExitRule("x2", "visited")),
        (ExitRule("x1", "visited"), ExitRule("x2", who=SOMEWHERE)),
    )
)


@dataclasses.dataclass
class Lived:
    """A journey that everybody lives through, and what was seen of it: when it was looked at who
    certain people are, and what became of what was asked for by those who were erased since."""

    database: object
    ident: int
    history: object
    #: when another edition is used, which, and where those go whose step is gone
    edited: tuple | None
    looks: list = dataclasses.field(default_factory=list)
    kept: dict = dataclasses.field(default_factory=dict)

    def live(self):
        """Lets sixty days pass, through every moment at which something is due or happens; looks at
        who certain people are at each, and after each start."""
        told, reacts = self.history.told(), self.history.reactions()
        changes, merging = self.history.changes(), {o.at: o for o in self.history.mergings()}
        erasing = {at: contact for contact, at in self.history.erasings()}
        after = [one.at + dt.timedelta(seconds=1) for one in self.history.comings()]
        known = {*told, *reacts, *changes, *merging, *erasing, *after}
        known |= {*self.history.paused(), *self.history.outage()}
        moments = sorted(known | ({self.edited[0]} if self.edited else set()))
        now = NOW
        while now < UNTIL:
            ahead = [moment for moment in moments if moment > now][:1]
            due = due_next(self.database, now)
            now = min([one for one in (due, *ahead, UNTIL) if one is not None])
            with clock.at(now), self.database.session() as session:
                self._turn(session, now)
                for contact, column, value in changes[now]:
                    change = f"UPDATE contacts SET {column} = :value WHERE id = :id"
                    session.execute(sa.text(change), {"value": value, "id": contact})
                if now in merging:
                    pair = merging[now]
                    duplicates.merge(session, IDA, now, pair.kept, pair.gone, set())
                if now in erasing:
                    self._erase(session, now, erasing[now])
                if told[now]:
                    take_events(session, now, "t", told[now])
                for contact, kind in reacts[now]:
                    entry = queries.entry(session, self.ident, contact)
                    if entry is not None and entry.sent_delivery is not None:
                        react(session, now, entry.sent_delivery, contact, kind)
                session.execute(sa.text(LOOK_NOW))
            if self.history.is_away(now):
                continue
            self.looks.append(now)
            advance(self.database, now)
            while called(self.database, now):
                advance(self.database, now)

    def _turn(self, session, now):
        """Pauses it, has it go on, or uses another edition, where that is now."""
        journey = queries.journey(session, self.ident)
        if now in self.history.paused():
            done = actions.pause if now == self.history.paused()[0] else actions.resume
            done(session, IDA, now, journey)
        if self.edited and now == self.edited[0]:
            _, itinerary, to = self.edited
            actions.write(
                session, IDA, now, journey, journey.version, "rewritten", lambda _: itinerary
            )
            places = dict.fromkeys(to, actions.OUT)
            actions.start(session, IDA, now, journey, journey.version, to=places)

    def _erase(self, session, now, contact):
        """What was asked for goes with whoever is erased."""
        for entry in queries.entries(session, self.ident, contact):
            self.kept[entry.id] = answered(session, entry.id), entry.details
        wholly.erase(session, IDA, now, contact)

    def entries(self, session):
        """Each entry by its lane, the record that came in, when, and what about."""
        asked = sa.select(JourneyEntry).where(JourneyEntry.journey_id == self.ident)
        found = collections.defaultdict(dict)
        for entry in session.scalars(asked.order_by(JourneyEntry.id)):
            _, details = self.kept.get(entry.id, (None, entry.details))
            key = (details["amount"], entry.began_at, entry.subject)
            assert key not in found[entry.lane], "nobody comes in twice at once"
            found[entry.lane][key] = entry
        return found

    def answers(self, session, entry):
        kept, _ = self.kept.get(entry.id, (None, None))
        return answered(session, entry.id) if kept is None else kept


#: Has it looked at again who certain people are, however short ago that was.
LOOK_NOW = """
UPDATE journey_watches
SET looked_at = looked_at - interval '1 day', counted_at = counted_at - interval '1 day'
"""


def called(database, now):
    """Has the calls that wait answered; says how many there were."""
    with database.session() as session:
        answered_now = session.execute(sa.text(CALLED), {"now": now, "fails": FAILS})
        return rows_changed(answered_now)


def as_often_as(examples):
    """So many random histories: each takes seconds, so what fails is told as it is."""
    return hypothesis.settings(
        max_examples=examples,
        deadline=None,
        suppress_health_check=list(hypothesis.HealthCheck),
        phases=(hypothesis.Phase.explicit, hypothesis.Phase.reuse, hypothesis.Phase.generate),
    )


@as_often_as(6)
@hypothesis.given(data=st.data(), history=histories, rules=rules)
def test_the_database_walks_as_the_judge_does(database, world, data, history, rules):
    held_against_the_judge(database, world, data, history, rules)


@pytest.mark.long
@as_often_as(120)
@hypothesis.given(data=st.data(), history=histories, rules=rules)
def test_the_database_walks_as_the_judge_does_for_long(database, world, data, history, rules):
    held_against_the_judge(database, world, data, history, rules)


def held_against_the_judge(database, world, data, history, rules):
    """Lets everybody live through a history, and compares. The judge knows nothing of what is told
    twice: it counts once."""
    messages, segment_id, campaign_id = world
    # Of what takes people out during a pause the judge is not held to be right yet.
    rules = () if history.pause else rules
    itinerary = drawn_from(data, messages, segment_id, rules)
    edited = edited_from(data, itinerary, history.edit(), messages, segment_id)
    with clock.at(NOW), database.session() as session:
        begin_anew(session)
    ident = started(database, campaign_id, itinerary)
    lived = Lived(database, ident, history, edited)
    lived.live()
    note_covered(history, itinerary, edited)
    with clock.at(UNTIL), database.session() as session:
        agreed(session, lived, itinerary, segment_id)
        stand = agree(session, ident).stand
        assert stand.entered == sum(map(len, lived.entries(session).values()))
        controlled(session, ident, itinerary.goal, history)
        actions.end(session, IDA, UNTIL, queries.journey(session, ident))
        assert agree(session, ident).stand.inside == 0
    # What was covered so far, with -s.
    print(dict(COVERED))


def agreed(session, lived, itinerary, segment_id):
    """Holds every entry against what the judge says of it."""
    salt = f"journey {lived.ident}"
    editions = [Edition(NOW, Rules.of(itinerary, salt))]
    if lived.edited:
        at, after, to = lived.edited
        editions.append(Edition(at, Rules.of(after, salt), dict.fromkeys(to, END)))
    lines = collections.ChainMap(*(one.rules.steps for one in editions))

    def is_meant(who):
        return who.segment == segment_id or bool(who.lines)

    found = lived.entries(session)
    for lane in editions[0].rules.first:
        answers = {key: lived.answers(session, one) for key, one in found[lane].items()}
        judge = Lane(
            lane, editions, lived.history, lived.looks, itinerary.subject, is_meant, answers
        )
        expected = {one.key: one for one in judge.lived()}
        assert set(found[lane]) == set(expected), "whoever is not inside comes in, nobody else"
        COVERED["lanes"] += 1
        for key, entry in found[lane].items():
            said = [
                (one.step, one.at, "no_consent" if one.because == "refused" else one.because)
                for one in expected[key].steps
            ]
            moves = queries.moves(session, entry.id)
            assert [(one.to_step, one.at, one.because) for one in moves] == said
            way = expected[key].way
            assert entry.goal_at == (way.goal and way.goal.at)
            assert (entry.state == "inside") == (not way.over)
            if way.here.because in ("merged", "erased"):
                assert entry.because == way.here.because
                COVERED[entry.because] += 1
            COVERED.update(type(lines[step].step).__name__ for step, _, _ in said if step)
            COVERED.update(one for _, _, one in said if not one.startswith("s"))


def drawn_from(data, messages, segment_id, rules):
    """An itinerary to walk. The lane beside the first one is walked by the same people, at the
    same times."""
    drawn = data.draw(in_lanes(**named(messages, segment_id)))
    # Half of them with a goal among the steps, to which people are taken on.
    if data.draw(st.booleans()):
        place = data.draw(st.integers(1, len(drawn.steps)))
        drawn = edit.add(drawn, GoalStep(""), place=place)
    goal = Goal(
        "visited",
        20,
        ends=data.draw(st.sampled_from((False, False, False, True))),
        control=data.draw(st.sampled_from((0, 40))),
    )
    starts = tuple(
        Start("event", "began", id=f"start{lane.id}", lane=lane.id) for lane in drawn.lanes
    )
    subject = data.draw(st.sampled_from(("", "what")))
    return dataclasses.replace(
        drawn, starts=starts, goal=goal, again="any", exits=rules, subject=subject
    )


def named(messages, segment_id):
    """What the steps may name."""
    return {
        "messages": messages,
        "segments": (segment_id, 10**6),
        "events": ("visited", "ticket_bought"),
    }


def edited_from(data, before, at, messages, segment_id):
    """When another edition is used, which, and from which steps that are gone people leave."""
    if at is None:
        return None
    after = before
    for _ in range(data.draw(st.integers(1, 4))):
        there = [step for step, _, _ in after.walk()]
        if there:
            after = changed(data, after, data.draw(st.sampled_from(there)))
        if data.draw(st.booleans()):
            step = data.draw(steps(**named(messages, segment_id)))
            after = edit.add(after, step, place=data.draw(st.integers(0, len(after.steps))))
    gone = sorted(set(flatten(before)) - set(flatten(after)))
    out = data.draw(st.sets(st.sampled_from(gone))) if gone else set()
    same = to_json(dataclasses.replace(before, ids=after.ids)) == to_json(after)
    return None if same else (at, after, out)


def changed(data, itinerary, step):
    """An itinerary with one step taken away, switched on or off, moved, or of another length."""
    how = data.draw(st.sampled_from(("remove", "switch", "move", "length")))
    if how == "remove":
        return edit.remove(itinerary, step.id)
    if how == "switch":
        return edit.switch(itinerary, step.id)
    if how == "length" and isinstance(step, WaitStep | WaitForStep):
        return edit.set_values(itinerary, step.id, span=data.draw(spans))
    return edit.move(itinerary, step.id, data.draw(st.sampled_from((-1, 1))))


def note_covered(history, itinerary, edited):
    COVERED["told twice"] += len([one for one in history.doubled if one < len(history.deeds)])
    COVERED["told late"] += sum(one.late > 0 for one in history.deeds)
    COVERED["town changed"] += len(history.moved)
    COVERED["clock changed"] += len(history.zones)
    COVERED["paused"] += history.pause is not None
    COVERED["without workers"] += history.away is not None
    COVERED["edited"] += edited is not None
    COVERED["merges"] += len(history.mergings())
    COVERED["erasures"] += len(history.erasings())
    COVERED["by subject"] += bool(itinerary.subject)


def controlled(session, ident, goal, history):
    """Whoever is of the control group gets nothing."""
    merged = {who for one in history.mergings() for who in (one.kept, one.gone)}
    control = {one for one in EVERYBODY if in_control(one, goal.control, f"journey {ident}")}
    got = session.scalars(sa.text(GOT), {"journey": ident})
    assert not (control - merged) & set(got)
