"""Three days without workers: things go on at the real now, what is too late is judged by its last
moment, and nobody gets a heap at once."""

import datetime as dt
from collections import Counter

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.guardrails.caps import Cap
from meadowrun.outgoing import caps
from meadowrun.outgoing.models import Delivery
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go

HOUR, DAY = dt.timedelta(hours=1), dt.timedelta(days=1)
PEOPLE = 12


@pytest.fixture
def planned(database, settings, job_context):
    """Plans a send to everybody; its number."""

    def made(at, **how):
        with clock.at(NOW), database.session() as session:
            send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
            for name, value in (how | {"leaves_at": at}).items():
                setattr(send, name, value)
            session.flush()
            actions.start(session, IDA, NOW, send, settings.public_url, PEOPLE, send.version)
            return send.id

    return made


def stands(database, ident):
    return {key: people for key, people in counts(database, ident)[0].items() if people}


def left_on(database, day):
    """How many messages each person had on a day."""
    with database.session() as session:
        rows = session.execute(
            sa.select(Delivery.contact_id).where(
                Delivery.outcome == "delivered",
                Delivery.at >= day,
                Delivery.at < day + DAY,
            )
        )
        return Counter(rows.scalars())


def test_three_days_without_workers(database, planned, keeper):
    """Four sends would have gone on four days. One was half done and is over its last moment, one
    was due in the outage and still may go, one repeats, one is for the day itself; one message a
    day is allowed."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        caps.save(session, IDA, NOW, Cap(1, 1, "day"))
    half = planned(NOW, portion_size=4, portion_gap=60, within_hours=24)
    go(database, NOW)
    assert stands(database, half) == {"delivered": 4, "waiting": 8}
    missed = planned(NOW + DAY)
    back = NOW + 3 * DAY
    today = planned(back - HOUR)
    # Nobody worked for three days.
    go(database, back)
    assert stands(database, half) == {"delivered": 4, "late": 8}
    first = back.replace(hour=0)
    assert set(left_on(database, first).values()) == {1}
    assert stands(database, missed) == {"delivered": PEOPLE}
    assert stands(database, today) == {"waiting": PEOPLE}
    # The other one follows the next day, by their own day and not by the clock of the server.
    go(database, back + DAY)
    assert stands(database, today) == {"delivered": PEOPLE}
    assert set(left_on(database, first + DAY).values()) == {1}
    with database.session() as session:
        assert session.get_one(Send, missed).taken_at == back
        addressed = [letter.to for letter in keeper.letters]
    assert max(Counter(addressed).values()) == 3 and len(addressed) == 4 + 2 * PEOPLE


def test_hours_that_passed_meanwhile_come_again(database, planned, keeper):
    """It may go from 9 to 11 only: after an outage at noon everybody waits for the next morning,
    and the reason is told."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
    ident = planned(NOW, hours={"from": "09:00", "to": "11:00"})
    go(database, NOW)
    assert stands(database, ident) == {"waiting": PEOPLE}
    noon = dt.datetime(2026, 11, 26, 12, tzinfo=dt.UTC)
    go(database, noon)
    assert stands(database, ident) == {"waiting": PEOPLE}
    with database.session() as session:
        rows = session.scalars(sa.select(Delivery)).all()
        assert {row.due for row in rows} == {dt.datetime(2026, 11, 27, 9, tzinfo=dt.UTC)}
        assert {row.stood_on["because"] for row in rows} == {"hours"}
    go(database, dt.datetime(2026, 11, 27, 9, tzinfo=dt.UTC))
    assert stands(database, ident) == {"delivered": PEOPLE}
