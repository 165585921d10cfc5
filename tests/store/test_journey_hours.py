"""A message step with hours of its own: people get it within them, on their own clock."""

import dataclasses
import datetime as dt
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import Itinerary, MessageStep, Who
from meadowrun.journeys import queries
from meadowrun.journeys.imagining import Asked, imagine
from meadowrun.outgoing.models import BestHours, HabitsLearnt
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from tests.conftest import NOW
from tests.store.journeys import advance
from tests.store.people import kinds, many, ready_send
from tests.store.tasks import running
from tests.store.test_tasks import visits

STEP = MessageStep("", 1, begins=9 * 60, ends=12 * 60)


@pytest.fixture
def world(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 2)
        session.execute(sa.text("UPDATE contacts SET timezone = 'Europe/London'"))
        session.execute(sa.text("UPDATE contacts SET timezone = 'Asia/Tokyo' WHERE id = 2"))
        kinds(session)
        return (ready_send(session, NOW, {"in": [], "out": []}).campaign_id,)


def left(database):
    """Who got it, and when."""
    with database.session() as session:
        asked = "SELECT contact_id, at FROM deliveries WHERE outcome = 'delivered' ORDER BY at"
        return [tuple(row) for row in session.execute(sa.text(asked))]


def test_it_goes_within_its_own_hours_and_not_those_of_the_journey(database, world):
    """NOW is Monday, 14:00 in London and 23:00 in Tokyo; the journey itself would let it go."""
    running(database, world, STEP, hours={"from": "14:00", "to": "23:30"})
    visits(database, NOW, 1, 2)
    assert left(database) == []
    # 9:00 in Tokyo is midnight in London.
    for at in ("2026-11-24T00:00", "2026-11-24T09:00"):
        advance(database, dt.datetime.fromisoformat(at).replace(tzinfo=dt.UTC))
    assert [(who, f"{at.astimezone(dt.UTC):%d %H:%M}") for who, at in left(database)] == [
        (2, "24 00:00"),
        (1, "24 09:00"),
    ]


def test_without_hours_of_its_own_it_goes_within_those_of_the_journey(database, world):
    running(database, world, dataclasses.replace(STEP, begins=None, ends=None))
    visits(database, NOW, 1, 2)
    assert [who for who, _ in left(database)] == [1, 2]


@pytest.mark.parametrize(("begins", "ends"), [(540, None), (None, 540), (540, 540), (540, 1440)])
def test_hours_that_cannot_be_are_named_by_their_place(begins, ends):
    whole = to_json(Itinerary(steps=(dataclasses.replace(STEP, id="s1"),)))
    assert from_json(whole).steps[0] == dataclasses.replace(STEP, id="s1")
    whole["steps"][0] |= {"begins": begins, "ends": ends}
    with pytest.raises(ItineraryError) as found:
        from_json(whole)
    assert found.value.place == "steps[0].ends"


# At each person's best hour.


def best(database, **hours):
    """What was learnt: the hours of some contacts, the best first; everybody else's is 20:00."""
    with database.session() as session:
        session.add(HabitsLearnt(**LEARNT))
        session.flush()
        for contact, mine in hours.items():
            session.add(BestHours(contact_id=int(contact[1:]), hours=mine, known=9))


LEARNT = {
    "id": 1,
    "learnt_at": NOW,
    "usual": [20, 8],
    "own": 1,
    "few": 0,
    "tested": 0,
    "single_hour": 20,
    "single_share": 0,
    "own_share": 0,
}


def when(database):
    return [(who, f"{at.astimezone(dt.UTC):%d %H:%M}") for who, at in left(database)]


def let_pass(database, days):
    """Lets so many days pass, hour by hour."""
    for hour in range(24 * days):
        advance(database, NOW + dt.timedelta(hours=hour, minutes=1))


def test_it_goes_at_the_best_hour_of_each_person(database, world):
    """NOW is Monday, 14:00 in London: the first reads at 7, the second, in Tokyo, like everybody
    at 20:00, which is 11:00 in London. Who comes days later gets it at the next such hour."""
    best(database, c1=[7, 20])
    running(database, world, dataclasses.replace(STEP, begins=None, ends=None, best=True))
    visits(database, NOW, 1)
    let_pass(database, 2)
    visits(database, NOW + dt.timedelta(days=2, minutes=5), 2)
    for hour in range(24):
        advance(database, NOW + dt.timedelta(days=2, hours=hour, minutes=6))
    assert when(database) == [(1, "24 07:01"), (2, "26 11:06")]


def test_the_best_hour_lies_within_the_hours_of_the_step(database, world):
    """At 7 nobody is written to; of the hours of the step the first likes 10 best."""
    best(database, c1=[7, 10, 9], c2=[23, 11, 9])
    running(database, world, dataclasses.replace(STEP, best=True))
    visits(database, NOW, 1, 2)
    let_pass(database, 2)
    assert when(database) == [(2, "24 02:01"), (1, "24 10:01")]


def test_the_hour_that_lasts_is_not_waited_for(database, world):
    """14:00 in London is now: the first gets it at once."""
    best(database, c1=[14, 7])
    running(database, world, dataclasses.replace(STEP, begins=None, ends=None, best=True))
    visits(database, NOW, 1)
    assert when(database) == [(1, "23 14:00")]


def test_it_is_rehearsed_at_the_best_hour_of_each_person(database, world):
    """What is imagined is what becomes: 7:00 in London, 11:00 there for 20:00 in Tokyo."""
    best(database, c1=[7, 20])
    ident = running(database, world, dataclasses.replace(STEP, begins=None, ends=None, best=True))
    with clock.at(NOW), database.session() as session:
        found = queries.journey(session, ident)
        moment = Moment(session, dictionary(session), NOW, zoneinfo.ZoneInfo("Europe/London"))
        everyone = Who(lines=({"id": "a", "kind": "field", "field": "email", "op": "not_blank"},))
        itinerary = queries.walked(session, found)
        rehearsed = imagine(moment, found, itinerary, Asked(7, everyone))
    left_at = {
        rehearsed.contacts[place]: f"{rehearsed.clocks.moment(way[-1].at):%d %H:%M}"
        for place, way in rehearsed.found.ways.items()
        if way[-1].because == "sent"
    }
    assert left_at == {1: "24 07:00", 2: "24 11:00"}
