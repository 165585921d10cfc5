"""The table of results: narrowed, sorted, added up, and by month."""

import datetime as dt
import re
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.results import jobs, looking, queries
from meadowrun.results.looking import Narrowed
from meadowrun.results.models import SendNumbers
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


def test_the_last_week_and_the_one_before(database):
    """A send of exactly a week ago is of the week before; what is older is of neither."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 8)
        kinds(session)
        gone(session, "Now", NOW, 4, 1, 1)
        gone(session, "Six days", NOW - 6 * DAY, 4, 3, 0)
        gone(session, "A week", NOW - 7 * DAY - dt.timedelta(seconds=1), 5, 5, 5)
        gone(session, "Fifteen days", NOW - 15 * DAY, 8, 8, 8)
    with database.session() as session:
        weeks = looking.weeks(session, NOW, ZONE)
    assert (weeks.last.sends, weeks.last.delivered, weeks.last.opened) == (2, 8, 4 / 8)
    assert (weeks.before.sends, weeks.before.delivered, weeks.before.clicked) == (1, 5, 1.0)


def test_today_says_how_the_week_went(client, database):
    sign_in(client)
    assert 'id="last-week"' not in client.get("/").text
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 8)
        kinds(session)
        gone(session, "Two days", NOW - 2 * DAY, 8, 2, 1)
    with clock.at(NOW):
        page = client.get("/").text
    row = re.search(r"Last 7 days</td>(.*?)</tr>", page, re.S)
    assert row and re.findall(r">([^<>]+)</td>", row[1]) == [
        "1",
        "8",
        "25.0%",
        "12.5%",
        "0.0%",
        "0.00%",
    ]
    before = re.search(r"7 days before</td>(.*?)</tr>", page, re.S)
    assert before and re.findall(r">([^<>]+)</td>", before[1])[:3] == ["0", "0", "–"]


def kept(database):
    with database.session() as session:
        return set(session.scalars(sa.select(SendNumbers.send_id)))


def test_every_lively_send_has_its_turn_and_one_that_fails_stops_no_other(
    database, job_context, monkeypatch
):
    """With room for two in one go, all five are counted after three; the poisoned one is not, and
    the job says so."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 2)
        kinds(session)
        sends = [gone(session, f"No {n}", NOW - DAY, 1).id for n in range(5)]
    monkeypatch.setattr(jobs, "MOST", 2)
    for hour in range(3):
        with clock.at(NOW + hour * dt.timedelta(hours=1)):
            jobs.refresh()
    assert kept(database) == set(sends)
    poisoned = sends[0]
    real = jobs.refresh_numbers

    def refuses(session, send, now, reads=None):
        if send.id == poisoned:
            raise ValueError("no number")
        real(session, send, now, reads)

    monkeypatch.setattr(jobs, "refresh_numbers", refuses)
    monkeypatch.setattr(jobs, "MOST", 5)
    later = NOW + DAY
    with clock.at(later), pytest.raises(ValueError, match="no number"):
        jobs.refresh()
    with database.session() as session:
        counted = dict(
            session.execute(sa.select(SendNumbers.send_id, SendNumbers.counted_at)).all()
        )
    assert [counted[send] == later for send in sends] == [False, True, True, True, True]
