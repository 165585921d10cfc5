"""Random itineraries and histories, walked by the database for everybody at once and by the judge
for each person alone: they agree on every step, its moment and its reason."""

import collections
import datetime as dt
import zoneinfo

import hypothesis
import pytest
import sqlalchemy as sa
from hypothesis import strategies as st

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys.engine import Answered, Happened, Person, in_control, walk
from meadowrun.core.journeys.flat import first_step, flatten
from meadowrun.core.journeys.reading import to_json
from meadowrun.core.journeys.steps import ExitRule, Goal, Itinerary, Start
from meadowrun.journeys import actions, queries
from meadowrun.journeys.models import JourneyEdition, JourneyMove
from meadowrun.messages.models import Message
from meadowrun.outgoing.models import Delivery, Reaction
from meadowrun.people.models import Field
from meadowrun.tracking.actions import react
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.itineraries import itineraries
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
WHERE s.owner_kind = 'journey' AND s.owner_id = :journey AND d.outcome <> 'control'
"""
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


def live(database, ident, history, reacted):
    """Lets sixty days pass, through every moment at which something is due or happens."""
    came = {contact: NOW + dt.timedelta(minutes=contact) for contact in range(1, PEOPLE + 1)}
    told = collections.defaultdict(list)
    for contact, at in came.items():
        began = {"event": "began", "contact": contact, "at": at.isoformat()}
        told[at].append({**began, "details": {"amount": contact}})
    for contact, kind, minutes in history:
        at = NOW + dt.timedelta(minutes=minutes)
        told[at].append({"event": kind, "contact": contact, "at": at.isoformat()})
    reacts = collections.defaultdict(list)
    for contact, kind, minutes in reacted:
        reacts[NOW + dt.timedelta(minutes=minutes, seconds=30)].append((contact, kind))
    moments = sorted({*told, *reacts})
    now, until = NOW, NOW + dt.timedelta(days=60)
    while now < until:
        ahead = [moment for moment in moments if moment > now][:1]
        now = min([one for one in (due_next(database, now), *ahead, until) if one is not None])
        with clock.at(now), database.session() as session:
            if told[now]:
                take_events(session, now, "t", told[now])
            for contact, kind in reacts[now]:
                entry = queries.entry(session, ident, contact)
                if entry is not None and entry.sent_delivery is not None:
                    react(session, now, entry.sent_delivery, contact, kind)
        advance(database, now)
    return came, until


@hypothesis.settings(
    max_examples=6,
    deadline=None,
    suppress_health_check=list(hypothesis.HealthCheck),
    # Each run takes seconds: what fails is told as it is.
    phases=(hypothesis.Phase.explicit, hypothesis.Phase.reuse, hypothesis.Phase.generate),
)
@hypothesis.given(data=st.data(), history=deeds, reacted=reactions, rules=rules)
def test_the_database_walks_as_the_judge_does(database, world, data, history, reacted, rules):
    messages, segment_id, campaign_id = world
    drawn = data.draw(
        itineraries(
            messages=messages,
            segments=(segment_id, 10**6),
            events=("visited", "ticket_bought"),
        )
    )
    goal = Goal("visited", 20, control=data.draw(st.sampled_from((0, 40))))
    itinerary = Itinerary(Start("event", "began"), drawn.steps, goal, "once", exits=rules)
    with clock.at(NOW), database.session() as session:
        # What the run before left.
        session.execute(sa.text("DELETE FROM events"))
        old = {"event": "began", "contact": 1, "at": "2026-01-01T00:00+00:00"}
        take_events(session, NOW, "t", [old])
    ident = started(database, campaign_id, itinerary)
    came, until = live(database, ident, history, reacted)
    steps, first = flatten(itinerary), first_step(itinerary)
    for contact, at in came.items():
        with database.session() as session:
            entry = queries.entry(session, ident, contact)
            found = [(one.to_step, one.at, one.because) for one in queries.moves(session, entry.id)]
            answers = answered(session, entry.id)
        person = Person(
            contact,
            zoneinfo.ZoneInfo(ZONES[(contact - 1) % 4]),
            sorted(
                (
                    Happened(kind, NOW + dt.timedelta(minutes=minutes))
                    for who, kind, minutes in history
                    if who == contact
                ),
                key=lambda one: one.at,
            ),
            lambda meant, moment, who=contact: (
                (meant.segment == segment_id or bool(meant.lines)) and who in INSIDE
            ),
            lambda step, moment, known=answers: known.get((step, moment)),
            lambda field, who=contact: day_of(who),
            {"amount": contact},
        )
        expected = [
            (one.step, one.at, "no_consent" if one.because == "refused" else one.because)
            for one in walk(steps, first, person, at, until, f"journey {ident}", rules)
        ]
        assert found == expected
        COVERED.update(type(steps[step].step).__name__ for step, _, _ in found if step)
        COVERED.update(one for _, _, one in found if not one.startswith("s"))
    with clock.at(until), database.session() as session:
        stand = queries.numbers(session, ident).stand
        assert stand.entered == PEOPLE
        control = {one for one in came if in_control(one, goal.control, f"journey {ident}")}
        got = session.scalars(sa.text(GOT), {"journey": ident})
        assert not control & set(got), "who is of the control group gets nothing"
        for who, began in came.items():
            # They came in so many minutes after NOW: what they did before that is no goal.
            visits = [
                NOW + dt.timedelta(minutes=minutes)
                for one, kind, minutes in history
                if one == who and kind == "visited"
            ]
            in_time = [at for at in visits if began < at < began + dt.timedelta(days=20)]
            assert goal_at(session, ident, who) == min(in_time, default=None)
        actions.end(session, IDA, until, queries.journey(session, ident))
        assert queries.numbers(session, ident).stand.inside == 0
    # What was covered so far, with -s.
    print(dict(COVERED))


def day_of(contact):
    return dt.date.fromisoformat(RENEWALS[contact]) if contact in RENEWALS else None


def goal_at(session, ident, contact):
    return queries.entry(session, ident, contact).goal_at


def answered(session, entry_id):
    """What became of each message of an entry and what came back of it, from the deliveries and
    the reactions: by step and arrival."""
    rows = session.scalars(
        sa.select(JourneyMove).where(JourneyMove.entry_id == entry_id).order_by(JourneyMove.id)
    ).all()
    found = {}
    for before, after in zip(rows, rows[1:], strict=False):
        if after.delivery is None:
            continue
        sent = session.scalars(sa.select(Delivery).where(Delivery.number == after.delivery)).one()
        came_back = session.scalars(sa.select(Reaction).where(Reaction.delivery == sent.number))
        found[before.to_step, before.at] = Answered(
            sent.at,
            sent.outcome == "delivered",
            tuple((one.kind, one.at) for one in came_back),
            sent.outcome == "control",
        )
    return found
