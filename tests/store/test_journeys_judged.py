"""Random itineraries and histories, walked by the database for everybody at once and by the judge
for each person alone: they agree on every step, its moment and its reason."""

import collections
import dataclasses
import datetime as dt
import zoneinfo

import hypothesis
import pytest
import sqlalchemy as sa
from hypothesis import strategies as st

from meadowrun.base import clock
from meadowrun.base.db import rows_changed
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.engine import Answered, Happened, Person, in_control, walk
from meadowrun.core.journeys.flat import END, first_steps, flatten, lifts
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import ExitRule, Goal, GoalStep, Start
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.models import JourneyCall, JourneyEdition, JourneyMove
from meadowrun.messages.models import Message
from meadowrun.outgoing.models import Delivery, Reaction
from meadowrun.people.models import Field
from meadowrun.tracking.actions import react
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.itineraries import SOMEWHERE, in_lanes
from tests.store.journeys import advance, due_next
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.sending import segment

ZONES = ("Europe/London", "Asia/Tokyo", "America/New_York", "Pacific/Kiritimati")
PEOPLE = 8
#: Whoever said no, and whoever is in the segment.
SAID_NO, INSIDE = 3, {2, 4, 6, 8}
#: The renewal date of some: before they come in, soon after, long after, and on 29 February.
RENEWALS = {1: "2026-11-20", 2: "2026-12-01", 4: "2026-12-24", 5: "2027-02-10", 6: "2024-02-29"}
MINUTES = 40 * 24 * 60
#: Half of what people do falls into their first day, where most of the steps are.
FIRST_DAY = 24 * 60
#: What the runs covered: kinds of step that somebody stood on, and reasons.
COVERED: collections.Counter = collections.Counter()


#: Where somebody lives, and by which clock, before anything changes.
AS_AT_FIRST = "UPDATE contacts SET timezone = :zone, town = :town WHERE id = :id"


def as_at_first(place):
    town = "Farrow" if place + 1 in INSIDE else None
    return {"zone": ZONES[place % 4], "town": town, "id": place + 1}


@pytest.fixture
def world(database, settings, job_context, keeper):
    """People on four clocks, one of whom said no; a message, a segment of half of them and a
    campaign."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        for place in range(PEOPLE):
            session.execute(sa.text(AS_AT_FIRST), as_at_first(place))
        session.add(
            Field(owner="contact", key="renewal", label="renewal", type="date", created_at=NOW)
        )
        for contact, day in RENEWALS.items():
            session.execute(
                sa.text(
                    "UPDATE contacts SET attributes = jsonb_build_object('renewal', CAST(:day AS "
                    "text)) WHERE id = :id"
                ),
                {"day": day, "id": contact},
            )
        session.execute(
            sa.text("UPDATE consents SET agreed = false WHERE contact_id = :id"), {"id": SAID_NO}
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
    """A journey that runs from NOW on, whatever a check would say of it."""
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
#: (contact, what they do, minutes after the start, minutes after which we are told).
deeds = st.lists(
    st.tuples(
        st.integers(1, PEOPLE),
        st.sampled_from(("visited", "ticket_bought")),
        st.one_of(st.integers(1, FIRST_DAY), st.integers(1, MINUTES)),
        st.sampled_from((0, 0, 0, 7, 200, 30 * 60)),
    ),
    min_size=12,
    max_size=40,
)
#: (contact, minutes after the start): when somebody moves to a town, or away from it.
moments = st.one_of(st.integers(2, FIRST_DAY), st.integers(2, MINUTES))
moving = st.lists(st.tuples(st.integers(1, PEOPLE), moments), max_size=8)
#: (contact, minutes after the start, the clock that they live by from then on).
changing = st.lists(st.tuples(st.integers(1, PEOPLE), moments, st.sampled_from(ZONES)), max_size=8)
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
#: (contact, what they do with what they were sent last, minutes after the start).
reactions = st.lists(
    st.tuples(
        st.integers(1, PEOPLE),
        st.sampled_from(("opened", "clicked", "replied")),
        st.integers(9, MINUTES),
    ),
    max_size=12,
)


#: (contact, minutes after the start): when somebody would come in a second time.
again = st.lists(st.tuples(st.integers(1, PEOPLE), st.integers(20, MINUTES)), max_size=6)


#: Minutes after the start from which on it is paused, and for how long; empty: it is not.
pauses = st.one_of(
    st.none(), st.tuples(st.integers(30, MINUTES), st.sampled_from((45, 600, 3 * 24 * 60)))
)
#: Which of the deeds are told a second time, by their place: two minutes later, without a name.
repeated = st.sets(st.integers(0, 39), max_size=8)
AGAIN_AFTER = dt.timedelta(minutes=2, seconds=20)


@dataclasses.dataclass(frozen=True)
class History:
    """What happens to everybody in sixty days. Each sort of thing has seconds of its own, so that
    no two fall upon each other."""

    deeds: list
    reacted: list
    twice: list
    pause: tuple | None
    doubled: set
    moved: list
    zones: list

    def starts_of(self, contact):
        """When somebody would come in, in order; the second times are at no other moment."""
        later = [_after(minutes, 15) for who, minutes in self.twice if who == contact]
        return sorted({_after(contact), *later})

    def did(self, contact):
        """What somebody does, and when we are told."""
        found = [
            Happened(kind, _after(minutes), "", _told(minutes, late))
            for who, kind, minutes, late in self.deeds
            if who == contact
        ]
        return sorted(found, key=lambda one: one.at)

    def told(self):
        """What is told at each moment."""
        found = collections.defaultdict(list)
        for contact in range(1, PEOPLE + 1):
            for at in self.starts_of(contact):
                began = {"event": "began", "contact": contact, "at": at.isoformat()}
                found[at].append({**began, "details": {"amount": contact}})
        for place, (contact, kind, minutes, late) in enumerate(self.deeds):
            said = {"event": kind, "contact": contact, "at": _after(minutes).isoformat()}
            found[_told(minutes, late)].append(said)
            if place in self.doubled:
                found[_told(minutes, late) + AGAIN_AFTER].append(said)
        return found

    def reactions(self):
        """Who reacts to what they were sent last, and how, at each moment."""
        found = collections.defaultdict(list)
        for contact, kind, minutes in self.reacted:
            found[_after(minutes, 30)].append((contact, kind))
        return found

    def changes(self):
        """What changes of people at each moment: (contact, column, value)."""
        found = collections.defaultdict(list)
        for contact, minutes in self.moved:
            at = _after(minutes, 5)
            found[at].append((contact, "town", "Farrow" if self.is_inside(contact, at) else None))
        for contact, minutes, zone in self.zones:
            found[_after(minutes, 10)].append((contact, "timezone", zone))
        return found

    def is_inside(self, contact, moment):
        """Whether somebody has a town: each move gives or takes it."""
        moments = {_after(minutes, 5) for who, minutes in self.moved if who == contact}
        return (contact in INSIDE) != (len([one for one in moments if one <= moment]) % 2 == 1)

    def clocks(self, contact):
        """The clocks that somebody goes over to, in order; of two at once the last."""
        found = {
            _after(minutes, 10): zoneinfo.ZoneInfo(zone)
            for who, minutes, zone in self.zones
            if who == contact
        }
        return sorted(found.items(), key=lambda one: one[0])

    def paused(self):
        """The two moments between which it is paused; they are at no other moment."""
        if self.pause is None:
            return ()
        begin = _after(self.pause[0], 45)
        return begin, begin + dt.timedelta(minutes=self.pause[1])


def _after(minutes, seconds=0):
    return NOW + dt.timedelta(minutes=minutes, seconds=seconds)


def _told(minutes, late):
    return _after(minutes + late, 20 if late else 0)


histories = st.builds(History, deeds, reactions, again, pauses, repeated, moving, changing)


def turn(session, ident, now, history):
    """Pauses it, or has it go on, where that is now."""
    if now in history.paused():
        done = actions.pause if now == history.paused()[0] else actions.resume
        done(session, IDA, now, queries.journey(session, ident))


def live(database, ident, history):
    """Lets sixty days pass, through every moment at which something is due or happens; says at
    which of them it was looked at who certain people are: at all, and after each start."""
    told, reacts, changes = history.told(), history.reactions(), history.changes()
    after = [
        at + dt.timedelta(seconds=1)
        for contact in range(1, PEOPLE + 1)
        for at in history.starts_of(contact)
    ]
    moments = sorted({*told, *reacts, *changes, *history.paused(), *after})
    now, until, looks = NOW, NOW + dt.timedelta(days=60), []
    while now < until:
        ahead = [moment for moment in moments if moment > now][:1]
        now = min([one for one in (due_next(database, now), *ahead, until) if one is not None])
        with clock.at(now), database.session() as session:
            turn(session, ident, now, history)
            for contact, column, value in changes[now]:
                change = f"UPDATE contacts SET {column} = :value WHERE id = :id"
                session.execute(sa.text(change), {"value": value, "id": contact})
            if told[now]:
                take_events(session, now, "t", told[now])
            for contact, kind in reacts[now]:
                entry = queries.entry(session, ident, contact)
                if entry is not None and entry.sent_delivery is not None:
                    react(session, now, entry.sent_delivery, contact, kind)
            session.execute(sa.text(LOOK_NOW))
        looks.append(now)
        advance(database, now)
        while called(database, now):
            advance(database, now)
    return looks, until


#: Has it looked at again who certain people are, however short ago that was.
LOOK_NOW = "UPDATE journey_watches SET looked_at = looked_at - interval '1 day'"


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
    if rules or any(late for *_, late in history.deeds):
        # What takes people out during a pause does so at once, wherever they stood when it began;
        # the judge does not know which of two comes first that are told in a pause.
        history = dataclasses.replace(history, pause=None)
    messages, segment_id, campaign_id = world
    itinerary = drawn_from(data, messages, segment_id, rules)
    with clock.at(NOW), database.session() as session:
        # What the run before left.
        session.execute(sa.text("DELETE FROM events"))
        for place in range(PEOPLE):
            session.execute(sa.text(AS_AT_FIRST), as_at_first(place))
        old = {"event": "began", "contact": 1, "at": "2026-01-01T00:00+00:00"}
        take_events(session, NOW, "t", [old])
    ident = started(database, campaign_id, itinerary)
    looks, until = live(database, ident, history)
    note_covered(history)
    entered = 0
    for lane, first in first_steps(itinerary).items():
        if first == END:
            # Nobody comes into a lane without a step.
            continue
        COVERED["lanes"] += 1
        judge = Judge(ident, itinerary, first, history, looks, until, segment_id)
        for contact in range(1, PEOPLE + 1):
            with database.session() as session:
                # The first time first.
                entries = [
                    one
                    for one in queries.entries(session, ident, contact)[::-1]
                    if one.lane == lane
                ]
                ways = [way_of(session, entry.id) for entry in entries]
            entered += judge.agrees(contact, ways)
            COVERED["again"] += max(0, len(entries) - 1)
    with clock.at(until), database.session() as session:
        stand = figures.numbers(session, ident).stand
        assert stand.entered == entered
        goals_hold(session, ident, itinerary.goal, history)
        actions.end(session, IDA, until, queries.journey(session, ident))
        assert figures.numbers(session, ident).stand.inside == 0
    # What was covered so far, with -s.
    print(dict(COVERED))


def drawn_from(data, messages, segment_id, rules):
    """An itinerary to walk. The lane beside the first one is walked by the same people, at the
    same times."""
    drawn = data.draw(
        in_lanes(
            messages=messages,
            segments=(segment_id, 10**6),
            events=("visited", "ticket_bought"),
        )
    )
    # Half of them with a goal among the steps, to which people are taken on.
    if data.draw(st.booleans()):
        place = data.draw(st.integers(1, len(drawn.steps)))
        drawn = edit.add(drawn, GoalStep(""), place=place)
    goal = Goal("visited", 20, control=data.draw(st.sampled_from((0, 40))))
    starts = tuple(
        Start("event", "began", id=f"start{lane.id}", lane=lane.id) for lane in drawn.lanes
    )
    return dataclasses.replace(drawn, starts=starts, goal=goal, again="any", exits=rules)


@dataclasses.dataclass(frozen=True)
class Judge:
    """What must have become of people on one lane."""

    ident: int
    itinerary: object
    first: str
    history: History
    looks: list
    until: dt.datetime
    segment_id: int

    def agrees(self, contact, ways):
        """Holds the ways of somebody, in order, against what they must have been; says how many
        there were."""
        over, entered, left = None, 0, list(ways)
        for at in self.history.starts_of(contact):
            if over is not None and at < over:
                # They are inside: the start is refused.
                continue
            paused = self.history.paused()
            if paused and paused[0] <= at < paused[1]:
                # Nobody comes in meanwhile.
                continue
            assert left, "whoever is not inside comes in"
            found, answers = left.pop(0)
            expected = self.walked(contact, at, answers)
            assert found == [
                (one.step, one.at, "no_consent" if one.because == "refused" else one.because)
                for one in expected
            ]
            entered += 1
            over = expected[-1].seen if expected[-1].step == END else self.until
            steps = flatten(self.itinerary)
            COVERED.update(type(steps[step].step).__name__ for step, _, _ in found if step)
            COVERED.update(one for _, _, one in found if not one.startswith("s"))
        assert left == [], "nobody comes in who is inside"
        return entered

    def walked(self, contact, at, answers):
        """Every arrival of somebody who came in at a moment."""
        person = judged(contact, self.history, answers, self.segment_id, self.looks)
        return walk(
            flatten(self.itinerary),
            self.first,
            person,
            at,
            self.until,
            f"journey {self.ident}",
            self.itinerary.exits,
            "",
            self.itinerary.goal,
            lifts(self.itinerary),
        )


def note_covered(history):
    COVERED["told twice"] += len([one for one in history.doubled if one < len(history.deeds)])
    COVERED["told late"] += sum(late > 0 for *_, late in history.deeds)
    COVERED["town changed"] += len(history.moved)
    COVERED["clock changed"] += len(history.zones)
    COVERED["paused"] += history.pause is not None


def goals_hold(session, ident, goal, history):
    """Who is of the control group gets nothing; the goal is what people did in time after they
    came in, that time, as it was told first."""
    everybody = range(1, PEOPLE + 1)
    control = {one for one in everybody if in_control(one, goal.control, f"journey {ident}")}
    got = session.scalars(sa.text(GOT), {"journey": ident})
    assert not control & set(got)
    for who in everybody:
        for entry in queries.entries(session, ident, who):
            last = entry.began_at + dt.timedelta(days=goal.days)
            in_time = [
                one
                for one in history.did(who)
                if one.event == "visited" and entry.began_at < one.at < last
            ]
            first = min(in_time, key=lambda one: (one.known, one.at), default=None)
            assert entry.goal_at == (first and first.at)


def day_of(contact):
    return dt.date.fromisoformat(RENEWALS[contact]) if contact in RENEWALS else None


def judged(contact, history, answers, segment_id, looks):
    """One person as the judge knows them."""

    def is_one(meant, moment):
        asked = meant.segment == segment_id or bool(meant.lines)
        return asked and history.is_inside(contact, moment)

    return Person(
        contact,
        zoneinfo.ZoneInfo(ZONES[(contact - 1) % 4]),
        history.did(contact),
        is_one,
        lambda step, moment: answers.get((step, moment)),
        lambda field: day_of(contact),
        {"amount": contact},
        history.clocks(contact),
        looks,
    )


def way_of(session, entry_id):
    """What an entry walked, and what became of what was asked for on the way."""
    found = [(one.to_step, one.at, one.because) for one in queries.moves(session, entry_id)]
    return found, answered(session, entry_id)


def answered(session, entry_id):
    """What became of each message of an entry and what came back of it, from the deliveries and
    the reactions, and of each call: by step and arrival."""
    rows = session.scalars(
        sa.select(JourneyMove).where(JourneyMove.entry_id == entry_id).order_by(JourneyMove.id)
    ).all()
    calls = session.scalars(sa.select(JourneyCall).where(JourneyCall.entry_id == entry_id))
    of_step = {one.step: Answered(one.done_at, one.state == "done") for one in calls if one.done_at}
    found = {(one.to_step, one.at): of_step[one.to_step] for one in rows if one.to_step in of_step}
    for before, after in zip(rows, rows[1:], strict=False):
        if after.delivery is None:
            continue
        sent = session.scalars(sa.select(Delivery).where(Delivery.number == after.delivery)).one()
        came_back = session.scalars(sa.select(Reaction).where(Reaction.delivery == sent.number))
        found[before.to_step, before.at] = Answered(
            sent.at,
            sent.outcome == "delivered",
            tuple((one.kind, one.at, "") for one in came_back),
            sent.outcome == "control",
        )
    return found
