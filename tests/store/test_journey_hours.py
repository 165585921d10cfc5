"""A message step with hours of its own: people get it within them, on their own clock."""

import dataclasses
import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.journeys.reading import ItineraryError, from_json, to_json
from meadowrun.core.journeys.steps import Itinerary, MessageStep
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
