"""The calendar: what stands in it, whom two sends reach within a day, what moving does, and what
somebody's own calendar program reads."""

import datetime as dt
import re
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.base.audit import Actor
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.calendar import feeds, queries
from meadowrun.calendar.queries import Shown
from meadowrun.people import keeping
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from meadowrun.shell.models import User
from meadowrun.tags import actions as tags
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import run_all, start
from tests.store.web import words
from tests.store.work import delivered, dispatched

LONDON = zoneinfo.ZoneInfo("Europe/London")
DAY = dt.timedelta(days=1)
#: Wednesday 25 November 2026 at 9:00.
WEDNESDAY = dt.datetime(2026, 11, 25, 9, tzinfo=dt.UTC)


@pytest.fixture
def planned(database, settings, job_context, keeper):
    """A send to a list of contacts by their places, planned for a moment: its number."""

    def made(places, at, **how):
        with clock.at(NOW), database.session() as session:
            if not session.scalar(sa.select(Contact.id).limit(1)):
                many(session, NOW, 10)
            ids = session.scalars(sa.select(Contact.id).order_by(Contact.id)).all()
            name = f"List {session.scalar(sa.select(sa.func.count()).select_from(Send))}"
            chosen = keeping.make_list(
                session, IDA, NOW, name, "by hand", [ids[place] for place in places]
            )
            send = ready_send(session, NOW, {"in": [{"list": chosen.id}], "out": []})
            send.leaves_at = at
            for key, value in how.items():
                setattr(send, key, value)
            session.flush()
            actions.start(session, IDA, NOW, send, settings.public_url, len(places), send.version)
            return send.id

    return made


@pytest.fixture
def then():
    """Requests are of that moment."""
    with clock.at(NOW):
        yield


def shown(database, narrowed=None, days=30):
    with clock.at(NOW), database.session() as session:
        look = Moment(session, dictionary(session), NOW, LONDON)
        found = queries.entries(look, NOW - DAY, NOW + days * DAY, narrowed or Shown())
        return found, queries.clashes(look, found)


def test_two_sends_within_a_day_say_how_many_people_they_share(database, planned):
    one = planned(range(6), WEDNESDAY)
    other = planned(range(4, 10), WEDNESDAY + dt.timedelta(hours=23))
    later = planned(range(10), WEDNESDAY + dt.timedelta(hours=47))
    found, clashes = shown(database)
    assert [(entry.send.id, entry.people) for entry in found] == [(one, 6), (other, 6), (later, 10)]
    # From the second to the last it is a day: no clash.
    assert [(clash.one.id, clash.other.id, clash.people) for clash in clashes] == [(one, other, 2)]


def test_a_day_apart_is_no_clash(database, planned):
    planned(range(6), WEDNESDAY)
    planned(range(6), WEDNESDAY + DAY)
    assert shown(database)[1] == []


def test_what_left_clashes_with_what_is_planned_by_who_got_it(database, settings, planned):
    first = planned(range(3), WEDNESDAY)
    with database.session() as session:
        session.get_one(Send, first).state, session.get_one(Send, first).leaves_at = "draft", None
    start(database, settings, first, 3)
    run_all(database, first)
    planned(range(2, 8), NOW + dt.timedelta(hours=5))
    found, clashes = shown(database)
    assert [entry.people for entry in found] == [3, 6]
    assert [clash.people for clash in clashes] == [1]


def test_a_send_whose_audience_is_gone_hides_no_other_clash(database, planned):
    one = planned(range(6), WEDNESDAY)
    other = planned(range(4, 10), WEDNESDAY + dt.timedelta(hours=2))
    broken = planned(range(3), WEDNESDAY + dt.timedelta(hours=3))
    with database.session() as session:
        session.get_one(Send, broken).audience = {"in": [{"list": 999}], "out": []}
    found, clashes = shown(database)
    assert [entry.people for entry in found] == [6, 6, None]
    assert [(clash.one.id, clash.other.id, clash.people) for clash in clashes] == [(one, other, 2)]


def test_dates_of_a_send_that_repeats_clash_each_with_its_own_neighbours(database, planned):
    weekly = planned(range(6), WEDNESDAY, rhythm="FREQ=WEEKLY;BYDAY=WE")
    planned(range(5, 9), WEDNESDAY + 7 * DAY + dt.timedelta(hours=2))
    found, clashes = shown(database, days=20)
    assert [entry.send.id for entry in found].count(weekly) == 3
    by_each = queries.of_each(clashes)
    assert (weekly, WEDNESDAY) not in by_each
    assert [count for _, count in by_each[(weekly, WEDNESDAY + 7 * DAY)]] == [1]


def test_it_is_narrowed_to_a_campaign_a_channel_or_a_tag(database, planned):
    one, other = planned(range(3), WEDNESDAY), planned(range(3), WEDNESDAY + 3 * DAY)
    with clock.at(NOW), database.session() as session:
        campaign = session.get_one(Send, one).campaign_id
        tags.put_on(session, IDA, NOW, "campaign", campaign, ["season/leonids"])
        season = tags.numbers(session, NOW, ["season"])[0]
        under = frozenset(tags.numbers(session, NOW, ["season", "season/leonids"]))
    assert [e.send.id for e in shown(database, Shown(campaign=campaign))[0]] == [one]
    assert [e.send.id for e in shown(database, Shown(channel="email"))[0]] == [one, other]
    assert shown(database, Shown(channel="sms"))[0] == []
    assert season in under
    assert [e.send.id for e in shown(database, Shown(tags=under))[0]] == [one]


def test_a_send_is_moved_at_its_time_and_stays_planned(database, planned):
    ident = planned(range(3), dt.datetime(2027, 3, 26, 9, tzinfo=dt.UTC))
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        # Behind the change of clocks 9:00 is an hour earlier.
        actions.move_to(session, IDA, NOW, send, dt.date(2027, 3, 29), send.version)
        moved = dt.datetime(2027, 3, 29, 8, tzinfo=dt.UTC)
        assert (send.state, send.leaves_at, send.begins_at) == ("planned", moved, moved)
        with pytest.raises(Conflict):
            actions.move_to(session, IDA, NOW, send, dt.date(2027, 3, 30), send.version - 1)
        with pytest.raises(Invalid):
            actions.move_to(session, IDA, NOW, send, NOW.date() - DAY, send.version)


@pytest.mark.usefixtures("then")
def test_a_move_says_what_it_does_before_it_is_kept(database, planned, web):
    one = planned(range(6), WEDNESDAY)
    planned(range(4, 10), WEDNESDAY + 2 * DAY)
    asked = web.get(f"/calendar/move?send={one}&day=2026-11-27").text
    assert re.search(r'class="big">2</span>\s+people get another\s+send within a day', asked)
    assert "(now <b>0</b>)" in asked
    with database.session() as session:
        send = session.get_one(Send, one)
        assert send.leaves_at == WEDNESDAY
        version = send.version
    form = {"send": one, "day": "2026-11-27", "version": version}
    assert web.post("/calendar/move", data=form).status_code == 303
    with database.session() as session:
        assert session.get_one(Send, one).leaves_at == WEDNESDAY + 2 * DAY
    assert "has passed" in web.get(f"/calendar/move?send={one}&day=2026-01-01").text
    assert "Choose the day" in web.get(f"/calendar/move?send={one}&day=soon").text


@pytest.mark.usefixtures("then")
def test_what_journeys_sent_counts_on_its_day(database, web):
    """On two days by the organisation's clock; what does not count is left out."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        for counts in (True, False):
            made = dispatched(session, send, NOW - DAY)
            made.owner_kind, made.counts = "journey", counts
            midnight = dt.datetime(2026, 11, 23, tzinfo=LONDON)
            delivered(session, send, 1, at=midnight - dt.timedelta(minutes=1))
            delivered(session, send, 2, at=midnight)
            delivered(session, send, 3, "waiting")
        send.dispatch_id = send.taken_at = None
    with database.session() as session:
        look = Moment(session, dictionary(session), NOW, LONDON)
        span = (NOW - 3 * DAY, NOW + 3 * DAY)
        found = queries.of_journeys(look, *span, Shown())
        assert found == {dt.date(2026, 11, day): {"email": 1} for day in (22, 23)}
        assert queries.of_journeys(look, *span, Shown(channel="sms")) == {}
        assert queries.of_journeys(look, *span, Shown(campaign=99)) == {}
        assert queries.of_journeys(look, *span, Shown(tags=frozenset({5}))) == {}
    assert "1 by journeys" in words(web.get("/calendar?from=2026-11-23&view=week").text)


def test_a_calendar_program_reads_it_by_a_key_that_can_be_withdrawn(database, planned, web):
    """Read line by line, as the standard has it, not with the library that wrote it."""
    ident = planned(range(3), WEDNESDAY)
    page = web.post("/calendar/address").text
    path = re.search(r'value="[^"]*(/calendar/feed/[^"]+)"', page)[1]
    answer = web.get(path)
    assert answer.mimetype == "text/calendar"
    lines = answer.text.replace("\r\n ", "").split("\r\n")
    assert lines[0] == "BEGIN:VCALENDAR" and lines.count("BEGIN:VEVENT") == 1
    assert "DTSTART:20261125T090000Z" in lines and "SUMMARY:A send" in lines
    assert any(line.endswith(f"/sends/{ident}") for line in lines if line.startswith("URL"))
    # Another address, and this one is dead; withdrawn, none opens anything.
    again = web.post("/calendar/address").text
    assert web.get(path).status_code == 404
    newest = re.search(r'value="[^"]*(/calendar/feed/[^"]+)"', again)[1]
    assert web.get(newest).status_code == 200
    web.post("/calendar/address/withdraw")
    assert web.get(newest).status_code == 404


def test_whoever_is_deactivated_reads_no_calendar(database):
    with clock.at(NOW), database.session() as session:
        user = session.scalars(sa.select(User)).first() or User(
            email="x@farrowhill.example", name="X", password_hash="", role="viewer", created_at=NOW
        )
        session.add(user)
        session.flush()
        key = feeds.make(session, Actor(user.id, user.name, "viewer"), NOW)
        assert feeds.opened(session, NOW, key).id == user.id
        user.active = False
        session.flush()
        for wrong in (key, "", "nothing"):
            with pytest.raises(NotFound):
                feeds.opened(session, NOW, wrong)
