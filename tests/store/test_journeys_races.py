"""Several workers at once, some of which die in the middle: nobody is lost, and nobody gets
anything twice."""

import datetime as dt
import random
import threading
from collections import Counter

import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys.steps import (
    Goal,
    MessageStep,
    Path,
    Span,
    SplitStep,
    Start,
    WaitStep,
)
from meadowrun.journeys import actions, figures, queries
from meadowrun.journeys.jobs import once
from meadowrun.journeys.models import JourneyEntry, JourneyMove
from meadowrun.journeys.moves import Move, move
from meadowrun.journeys.safety import take_out_withdrawn
from meadowrun.outgoing.models import Delivery
from meadowrun.people.actions import set_consent
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.core.itinerary_of_two_weeks import built
from tests.store.people import IDA, kinds, many, ready_send
from tests.store.work import work

PEOPLE = 120


def test_whoever_withdraws_while_they_are_moved_leaves_from_where_they_are(
    database, job_context, keeper
):
    """They go on to the second step in a transaction that is not over when somebody else takes them
    out: what the log says is one way from the start to the end."""
    later = NOW + dt.timedelta(minutes=1)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 1)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        campaign = session.get_one(Campaign, send.campaign_id)
        waits = WaitStep("", Span(1, "day")), WaitStep("", Span(2, "day"))
        itinerary = built(*waits, starts=(Start("event", "ticket_bought", id="start"),))
        journey = actions.create(session, IDA, NOW, campaign, "A journey")
        journey.sender_id = send.sender_id
        actions.write(session, IDA, NOW, journey, 1, "", lambda _: itinerary)
        actions.start(session, IDA, NOW, journey, journey.version)
        ident = journey.id
        bought = [{"event": "ticket_bought", "contact": 1, "at": NOW.isoformat()}]
        take_events(session, NOW, "t", bought)
    with clock.at(NOW), database.session() as session:
        once(session)
        set_consent(session, later, 1, 0, False, "test")
    entry = 1
    with database.session() as session:
        first, second = (one.id for one in itinerary.steps)
        move(session, [Move(entry, second, later, "time")])
        session.flush()

        def take_out():
            with database.session() as other:
                take_out_withdrawn(other, later)

        thread = threading.Thread(target=take_out)
        thread.start()
        # It waits for this transaction.
        thread.join(1)
        assert thread.is_alive()
    thread.join(20)
    with database.session() as session:
        way = [(one.from_step, one.to_step) for one in queries.moves(session, entry)]
        assert way == [("", first), (first, second), (second, "")]
        assert queries.entry(session, ident, 1).because == "withdrew"


class Died(Exception):
    """A worker that is gone before it could commit."""


def test_four_workers_of_whom_some_die(database, job_context, keeper):
    """Each portion of work is lost with a third of its workers, which is as if they were killed
    before their transaction was over."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        kinds(session)
        send = ready_send(session, NOW, {"in": [], "out": []})
        campaign = session.get_one(Campaign, send.campaign_id)
        itinerary = built(
            MessageStep("", send.message_id),
            SplitStep("", (Path("", percent=50), Path("", percent=50))),
            WaitStep("", Span(0, "minute")),
            MessageStep("", send.message_id),
            starts=(Start("event", "ticket_bought", id="start"),),
            goal=Goal("visited", 10),
        )
        journey = actions.create(session, IDA, NOW, campaign, "A journey")
        actions.write(session, IDA, NOW, journey, 1, "", lambda _: itinerary)
        actions.start(session, IDA, NOW, journey, journey.version)
        ident = journey.id
    with clock.at(NOW), database.session() as session:
        bought = [
            {"event": "ticket_bought", "contact": one, "at": NOW.isoformat()}
            for one in range(1, PEOPLE + 1)
        ]
        # Told twice, as a website does whose answer was lost.
        take_events(session, NOW, "t", bought)
        take_events(session, NOW, "t", bought)
    dice, died = random.Random(7), Counter()

    def worker():
        with clock.at(NOW):
            for _ in range(12):
                try:
                    with database.session() as session:
                        once(session)
                        if dice.random() < 0.33:
                            raise Died
                except Died:
                    died["died"] += 1

    for _ in range(3):
        threads = [threading.Thread(target=worker) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        with clock.at(NOW):
            work(database)
    assert died["died"] > 20
    with database.session() as session:
        stand = figures.numbers(session, ident).stand
        assert (stand.entered, stand.finished, stand.inside) == (PEOPLE, PEOPLE, 0)
        sent = Counter(session.scalars(sa.select(Delivery.contact_id)))
        assert len(sent) == PEOPLE and set(sent.values()) == {2}
        entries = session.scalars(sa.select(JourneyEntry.id)).all()
        ways = {}
        for move in session.scalars(sa.select(JourneyMove).order_by(JourneyMove.id)):
            ways.setdefault(move.entry_id, []).append((move.from_step, move.to_step))
        assert len(ways) == len(entries)
        for way in ways.values():
            # Each begins where the one before ended: a single line from the start to the end.
            assert way[0][0] == "" and way[-1][1] == "" and len(way) == 5
            assert all(one[1] == two[0] for one, two in zip(way, way[1:], strict=False))
    assert len(keeper.letters) == 2 * PEOPLE
