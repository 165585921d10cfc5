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
from tests.itineraries import in_lanes
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
#: What the runs covered: kinds of step that somebody stood on, and reasons.
COVERED: collections.Counter = collections.Counter()


@pytest.fixture
def world(database, settings, job_context, keeper):
    """People on four clocks, one of whom said no; a message, a segment of half of them and a
    campaign."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        for place in range(PEOPLE):
            session.execute(
                sa.text("UPDATE contacts SET timezone = :zone, town = :town WHERE id = :id"),
                {
                    "zone": ZONES[place % 4],
                    "town": "Farrow" if place + 1 in INSIDE else None,
                    "id": place + 1,
                },
            )
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
deeds = st.lists(
    st.tuples(
        st.integers(1, PEOPLE),
        st.sampled_from(("visited", "ticket_bought")),
        st.integers(1, MINUTES),
    ),
    max_size=20,
)
#: What takes people out: mostly nothing.
rules = st.sampled_from(
    (
        (),
        (),
        (ExitRule("x1", "ticket_bought"),),
        (ExitRule("x1", "gone"), ExitRule("x2", "visited")),
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


def paused_at(pause):
    """The two moments between which it is paused; they are at no other moment."""
    if pause is None:
        return ()
    begin = NOW + dt.timedelta(minutes=pause[0], seconds=45)
    return begin, begin + dt.timedelta(minutes=pause[1])


def turn(session, ident, now, pause):
    """Pauses it, or has it go on, where that is now."""
    if now in paused_at(pause):
        done = actions.pause if now == paused_at(pause)[0] else actions.resume
        done(session, IDA, now, queries.journey(session, ident))


def starts_of(contact, twice):
    """When somebody would come in, in order; the second times are at no other moment."""
    later = [
        NOW + dt.timedelta(minutes=minutes, seconds=15) for who, minutes in twice if who == contact
    ]
    return sorted({NOW + dt.timedelta(minutes=contact), *later})


def live(database, ident, history, reacted, twice, pause):
    """Lets sixty days pass, through every moment at which something is due or happens."""
    came = {contact: starts_of(contact, twice) for contact in range(1, PEOPLE + 1)}
    told = collections.defaultdict(list)
    for contact, moments in came.items():
        for at in moments:
            began = {"event": "began", "contact": contact, "at": at.isoformat()}
            told[at].append({**began, "details": {"amount": contact}})
    for contact, kind, minutes in history:
        at = NOW + dt.timedelta(minutes=minutes)
        told[at].append({"event": kind, "contact": contact, "at": at.isoformat()})
    reacts = collections.defaultdict(list)
    for contact, kind, minutes in reacted:
        reacts[NOW + dt.timedelta(minutes=minutes, seconds=30)].append((contact, kind))
    moments = sorted({*told, *reacts, *paused_at(pause)})
    now, until = NOW, NOW + dt.timedelta(days=60)
    while now < until:
        ahead = [moment for moment in moments if moment > now][:1]
        now = min([one for one in (due_next(database, now), *ahead, until) if one is not None])
        with clock.at(now), database.session() as session:
            turn(session, ident, now, pause)
            if told[now]:
                take_events(session, now, "t", told[now])
            for contact, kind in reacts[now]:
                entry = queries.entry(session, ident, contact)
                if entry is not None and entry.sent_delivery is not None:
                    react(session, now, entry.sent_delivery, contact, kind)
        advance(database, now)
        while called(database, now):
            advance(database, now)
    return came, until


def called(database, now):
    """Has the calls that wait answered; says how many there were."""
    with database.session() as session:
        answered_now = session.execute(sa.text(CALLED), {"now": now, "fails": FAILS})
        return rows_changed(answered_now)


@hypothesis.settings(
    max_examples=6,
    deadline=None,
    suppress_health_check=list(hypothesis.HealthCheck),
    # Each run takes seconds: what fails is told as it is.
    phases=(hypothesis.Phase.explicit, hypothesis.Phase.reuse, hypothesis.Phase.generate),
)
@hypothesis.given(
    data=st.data(), history=deeds, reacted=reactions, rules=rules, twice=again, pause=pauses
)
def test_the_database_walks_as_the_judge_does(
    database, world, data, history, reacted, rules, twice, pause
):
    # What takes people out during a pause does so at once, wherever they stood when it began.
    pause = None if rules else pause
    messages, segment_id, campaign_id = world
    # The lane beside the first one is walked by the same people, at the same times.
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
    itinerary = dataclasses.replace(drawn, starts=starts, goal=goal, again="any", exits=rules)
    with clock.at(NOW), database.session() as session:
        # What the run before left.
        session.execute(sa.text("DELETE FROM events"))
        old = {"event": "began", "contact": 1, "at": "2026-01-01T00:00+00:00"}
        take_events(session, NOW, "t", [old])
    ident = started(database, campaign_id, itinerary)
    came, until = live(database, ident, history, reacted, twice, pause)
    steps, entered = flatten(itinerary), 0
    for lane, first in first_steps(itinerary).items():
        if first == END:
            # Nobody comes into a lane without a step.
            continue
        COVERED["lanes"] += 1
        for contact, moments in came.items():
            with database.session() as session:
                # The first time first.
                entries = [
                    one
                    for one in queries.entries(session, ident, contact)[::-1]
                    if one.lane == lane
                ]
                ways = [way_of(session, entry.id) for entry in entries]
            over = None
            for at in moments:
                if over is not None and at < over:
                    # They are inside: the start is refused.
                    continue
                if pause and paused_at(pause)[0] <= at < paused_at(pause)[1]:
                    # Nobody comes in meanwhile.
                    continue
                assert ways, "whoever is not inside comes in"
                found, answers = ways.pop(0)
                person = judged(contact, history, answers, segment_id)
                expected = [
                    (one.step, one.at, "no_consent" if one.because == "refused" else one.because)
                    for one in walk(
                        steps,
                        first,
                        person,
                        at,
                        until,
                        f"journey {ident}",
                        rules,
                        "",
                        goal,
                        lifts(itinerary),
                    )
                ]
                assert found == expected
                entered += 1
                over = found[-1][1] if found[-1][0] == END else until
                COVERED.update(type(steps[step].step).__name__ for step, _, _ in found if step)
                COVERED.update(one for _, _, one in found if not one.startswith("s"))
            assert ways == [], "nobody comes in who is inside"
            COVERED["again"] += len(entries) - 1
    COVERED["paused"] += pause is not None
    with clock.at(until), database.session() as session:
        stand = figures.numbers(session, ident).stand
        assert stand.entered == entered
        control = {one for one in came if in_control(one, goal.control, f"journey {ident}")}
        got = session.scalars(sa.text(GOT), {"journey": ident})
        assert not control & set(got), "who is of the control group gets nothing"
        for who in came:
            # What they did before they came in, that time, is no goal.
            visits = [
                NOW + dt.timedelta(minutes=minutes)
                for one, kind, minutes in history
                if one == who and kind == "visited"
            ]
            for entry in queries.entries(session, ident, who):
                began = entry.began_at
                in_time = [at for at in visits if began < at < began + dt.timedelta(days=20)]
                assert entry.goal_at == min(in_time, default=None)
        actions.end(session, IDA, until, queries.journey(session, ident))
        assert figures.numbers(session, ident).stand.inside == 0
    # What was covered so far, with -s.
    print(dict(COVERED))


def day_of(contact):
    return dt.date.fromisoformat(RENEWALS[contact]) if contact in RENEWALS else None


def judged(contact, history, answers, segment_id):
    """One person as the judge knows them."""
    did = [
        Happened(kind, NOW + dt.timedelta(minutes=minutes))
        for who, kind, minutes in history
        if who == contact
    ]
    return Person(
        contact,
        zoneinfo.ZoneInfo(ZONES[(contact - 1) % 4]),
        sorted(did, key=lambda one: one.at),
        lambda meant, moment: (
            (meant.segment == segment_id or bool(meant.lines)) and contact in INSIDE
        ),
        lambda step, moment: answers.get((step, moment)),
        lambda field: day_of(contact),
        {"amount": contact},
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
