"""The table of results: narrowed, sorted, added up, and by month."""

import datetime as dt
import re
import zoneinfo

import pytest

from meadowrun.base import clock
from meadowrun.results import looking, queries
from meadowrun.results.looking import Narrowed
from meadowrun.sends import actions
from meadowrun.tags.actions import numbers as tag_numbers
from tests.conftest import NOW
from tests.store.people import kinds, many, ready_send
from tests.store.web import sign_in
from tests.store.work import delivered, dispatched, reacted

ZONE = zoneinfo.ZoneInfo("Europe/London")
DAY = dt.timedelta(days=1)


def gone(session, name, taken, people, opened=0, clicked=0, success="ticket_bought"):
    """A send that went out to so many people, of whom the first opened and clicked."""
    send = ready_send(session, NOW, {"in": [], "out": []}, success)
    send.name, send.state = name, "done"
    dispatched(session, send, taken, "done", people)
    for contact in range(1, people + 1):
        delivered(session, send, contact, at=taken)
        if contact <= opened:
            reacted(session, send, contact, "opened", taken + DAY)
        if contact <= clicked:
            reacted(session, send, contact, "clicked", taken + DAY, link=1)
    return send


@pytest.fixture
def world(database):
    """Three sends: two in November, one in September, in a campaign with a tag each."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 8)
        kinds(session)
        first = gone(session, "Cherry", dt.datetime(2026, 9, 30, 23, 30, tzinfo=dt.UTC), 4, 2, 1)
        second = gone(session, "apple", NOW - 10 * DAY, 8, 2, 3)
        third = gone(session, "Banana", NOW - DAY, 2, 2, 0, success="")
        (under,) = tag_numbers(session, NOW, ["season/leonids"])
        session.get_one(actions.Campaign, second.campaign_id).tags = [under]
        return first.id, second.id, third.id


def named(database, sort="sent", down=True, **narrowed):
    with database.session() as session:
        found = looking.rows(session, Narrowed(**narrowed), ZONE, sort, down)
        return [row.send.name for row in found]


@pytest.mark.parametrize(
    ("sort", "down", "names"),
    [
        ("sent", True, ["Banana", "apple", "Cherry"]),
        ("sent", False, ["Cherry", "apple", "Banana"]),
        ("name", False, ["apple", "Banana", "Cherry"]),
        ("audience", True, ["apple", "Cherry", "Banana"]),
        # 2 of 2, 2 of 4, 3 of 8: a click is an opening.
        ("opened", True, ["Banana", "Cherry", "apple"]),
        # 0 of 2, 1 of 4, 3 of 8.
        ("clicked", False, ["Banana", "Cherry", "apple"]),
    ],
)
def test_sorted(database, world, sort, down, names):
    assert named(database, sort, down) == names


def test_narrowed(database, world):
    """1 October in London begins at 23:00 of 30 September elsewhere."""
    assert named(database, month="2026-11") == ["Banana", "apple"]
    assert named(database, month="2026-10") == ["Cherry"]
    assert named(database, month="2026-09") == []
    assert named(database, channel="sms") == []
    assert len(named(database, channel="email")) == 3
    with database.session() as session:
        campaign = session.get_one(queries.Send, world[2]).campaign_id
        tag = tag_numbers(session, NOW, ["season/leonids"])
    assert named(database, campaign=campaign) == ["Banana"]
    assert named(database, tags=tag) == ["apple"]


def test_added_up(database, world):
    with database.session() as session:
        found = looking.rows(session, Narrowed(), ZONE, "sent", True)
        together, months = looking.total(found), looking.by_month(found, ZONE)
        assert looking.months(session, ZONE) == ["2026-11", "2026-10"]
    assert (together.sends, together.audience, together.delivered) == (3, 14, 14)
    assert together.opened == 7 / 14 and together.clicked == 4 / 14
    # Of the one without a success nothing is known: 0 of the 12 of the others.
    assert together.success == 0.0
    assert [(one.first.month, one.sends, one.delivered, one.opened) for one in months] == [
        (10, 1, 4, 2),
        (11, 2, 10, 5),
    ]
    assert looking.total([]).opened is None and looking.by_month([], ZONE) == []


def test_a_month_without_a_send_is_drawn_all_the_same(database):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 2)
        gone(session, "One", NOW - 65 * DAY, 1)
        gone(session, "Two", NOW, 2)
        found = looking.rows(session, Narrowed(), ZONE, "sent", True)
        assert [one.sends for one in looking.by_month(found, ZONE)] == [1, 0, 1]


def test_the_page(client, database, world):
    sign_in(client)
    page = client.get("/results").text
    assert re.findall(r'class="name" href="/results/\d+">(\w+)<', page) == [
        "Banana",
        "apple",
        "Cherry",
    ]
    assert "3 sends together" in re.sub(r"\s+", " ", page) and "50.0%" in page
    by_name = client.get("/results?sort=name&down=no").text
    assert re.findall(r'class="name" href="/results/\d+">(\w+)<', by_name)[0] == "apple"
    assert 'aria-sort="ascending"' in by_name
    # What the address says and nobody knows is left aside.
    odd = client.get("/results?month=2026-13&channel=pigeon&campaign=x&tag=z&sort=luck")
    assert odd.status_code == 200 and "Cherry" in odd.text
    none = client.get("/results?month=2026-10&channel=sms").text
    assert "No send like this" in none
