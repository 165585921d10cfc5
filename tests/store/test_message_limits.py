"""Message limits on the way out: who waits, until when, and who takes the last room."""

import datetime as dt
import random
import re
import threading
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Conflict, Invalid, NotFound
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.replay import replay
from meadowrun.outgoing import caps, pressure, tried
from meadowrun.outgoing.models import Delivery
from meadowrun.people import keeping
from meadowrun.people.keeping import make_list
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments.actions import save as save_segment
from meadowrun.segments.models import Segment
from meadowrun.sends import actions, room
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.tags import actions as tags
from meadowrun.tags.models import Tag
from meadowrun.tracking.actions import bounce
from tests.conftest import NOW
from tests.luck import LONG
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go, run_all, segment, start
from tests.store.web import words
from tests.store.work import number_of, work

#: NOW is 14:00 in London on Monday 23 November.
MIDNIGHT = dt.datetime(2026, 11, 24, tzinfo=dt.UTC)
MONDAY = dt.datetime(2026, 11, 30, tzinfo=dt.UTC)


def limit(database, *given):
    with clock.at(NOW), database.session() as session:
        return caps.save(session, IDA, NOW, Cap(*given)).id


@pytest.fixture
def audience(database):
    """So many people, and sends to all of them, to be started."""

    def made(people, sends, **how):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, people)
            who = {"in": [{"segment": segment(session).id}], "out": []}
            found = [ready_send(session, NOW, who) for _ in range(sends)]
            for send in found:
                for name, value in how.items():
                    setattr(send, name, value)
            session.flush()
            return [send.id for send in found]

    return made


def sent(database, settings, ident, people, now=NOW):
    start(database, settings, ident, people)
    run_all(database, ident, now)
    return counts(database, ident)[0]


def waiting(database, ident):
    """Until when those of a send wait, by contact; all for the same reason."""
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(
            sa.select(Delivery)
            .where(Delivery.dispatch_id == dispatch, Delivery.outcome == "waiting")
            .order_by(Delivery.contact_id)
        ).all()
        assert {row.stood_on["because"] for row in rows} <= {"cap"}
        return [row.due for row in rows]


def test_the_second_message_of_a_day_waits_for_the_next(
    database, settings, job_context, keeper, audience
):
    limit(database, 1, 1, "day")
    first, second = audience(3, 2)
    assert sent(database, settings, first, 3) == {"delivered": 3}
    assert sent(database, settings, second, 3) == {"waiting": 3}
    assert waiting(database, second) == [MIDNIGHT] * 3
    with clock.at(MIDNIGHT - dt.timedelta(seconds=1)):
        work(database)
    assert counts(database, second)[0] == {"waiting": 3}
    with clock.at(MIDNIGHT):
        work(database)
    found, send = counts(database, second)
    assert found == {"delivered": 3} and send.state == "done" and len(keeper.letters) == 6


def test_the_day_is_each_persons_own(database, settings, job_context, keeper, audience):
    limit(database, 1, 1, "day")
    first, second = audience(3, 2)
    with database.session() as session:
        people = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
        # 14:00 UTC is 04:00 of the 24th on Kiritimati, and 03:00 of the 23rd in Pago Pago.
        people[0].timezone, people[1].timezone = "Pacific/Kiritimati", "Pacific/Pago_Pago"
    sent(database, settings, first, 3)
    sent(database, settings, second, 3)
    assert waiting(database, second) == [
        dt.datetime(2026, 11, 24, 10, tzinfo=dt.UTC),
        dt.datetime(2026, 11, 24, 11, tzinfo=dt.UTC),
        MIDNIGHT,
    ]


def test_all_limits_hold_together(database, settings, job_context, keeper, audience):
    limit(database, 1, 1, "day")
    limit(database, 1, 1, "week", "email")
    limit(database, 1, 1, "month", "sms")
    first, second = audience(1, 2)
    sent(database, settings, first, 1)
    sent(database, settings, second, 1)
    assert waiting(database, second) == [MONDAY]


@pytest.mark.parametrize(
    ("how", "second"),
    [
        ({"obeys_caps": False}, {"delivered": 2}),
        ({"counts": False}, {"delivered": 2}),
        ({}, {"waiting": 2}),
    ],
)
def test_a_send_may_go_beyond_them_and_may_not_count(
    database, settings, job_context, keeper, audience, how, second
):
    limit(database, 1, 1, "day")
    one, other = audience(2, 2, **how)
    assert sent(database, settings, one, 2) == {"delivered": 2}
    assert sent(database, settings, other, 2) == second


@pytest.mark.parametrize(
    "given",
    [
        (1, 1, "day"),
        (2, 2, "day"),
        (1, 1, "week", "email"),
        (1, 30, "minute"),
        (1, 1, "day", "sms"),
    ],
)
def test_how_many_would_wait_is_said_before_and_is_true(
    database, settings, job_context, keeper, audience, given
):
    """People of several zones; the send before the last went to some of them."""
    first, second, third = audience(6, 3)
    with database.session() as session:
        people = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
        zones = ["Pacific/Kiritimati", "Pacific/Pago_Pago", "Asia/Kolkata", None, "no/zone", None]
        for person, zone in zip(people, zones, strict=True):
            person.timezone = zone
    sent(database, settings, first, 6, NOW)
    keeper.refuse = {"p3@post.example", "p4@post.example"}
    later = NOW + dt.timedelta(minutes=20)
    with clock.at(later), database.session() as session:
        send = session.get_one(Send, second)
        actions.start(session, IDA, later, send, settings.public_url, 6, send.version)
    run_all(database, second, later)
    with database.session() as session:
        session.execute(sa.update(Contact).values(bounced_at=None))
    limit(database, *given)
    hours = NOW + dt.timedelta(hours=9)
    with clock.at(hours), database.session() as session:
        look = Moment(session, dictionary(session), hours, zoneinfo.ZoneInfo("Europe/London"))
        send = session.get_one(Send, third)
        guess = estimate(look, send)
        actions.start(session, IDA, hours, send, settings.public_url, guess.going, send.version)
    run_all(database, third, hours)
    found = counts(database, third)[0]
    assert guess.without_room == found.get("waiting", 0)
    assert guess.going == 6


def test_a_bounce_takes_no_room(database, settings, job_context, keeper, audience):
    limit(database, 1, 1, "day")
    first, second = audience(2, 2)
    keeper.refuse = {"p1@post.example"}
    assert sent(database, settings, first, 2) == {"delivered": 1, "bounced": 1}
    keeper.refuse = set()
    with database.session() as session:
        session.execute(sa.update(Contact).values(bounced_at=None))
    assert sent(database, settings, second, 2) == {"delivered": 1, "waiting": 1}


def test_whoever_waits_is_judged_again_when_a_limit_changes(
    database, settings, job_context, keeper, audience
):
    ident = limit(database, 1, 1, "week")
    first, second, third = audience(2, 3)
    sent(database, settings, first, 2)
    sent(database, settings, second, 2)
    sent(database, settings, third, 2)
    with clock.at(NOW), database.session() as session:
        caps.change(session, IDA, NOW, ident, 2)
    with clock.at(NOW):
        work(database)
    done = [counts(database, one)[0] for one in (second, third)]
    assert sorted(done, key=str) == [{"delivered": 2}, {"waiting": 2}]
    with clock.at(NOW), database.session() as session:
        caps.delete(session, IDA, NOW, ident)
    with clock.at(NOW):
        work(database)
    assert [counts(database, one)[0] for one in (second, third)] == [{"delivered": 2}] * 2


def test_room_that_comes_too_late_is_none(database, settings, job_context, keeper, audience):
    limit(database, 1, 1, "week")
    first, second = audience(2, 2, within_hours=24)
    sent(database, settings, first, 2)
    sent(database, settings, second, 2)
    with clock.at(NOW + dt.timedelta(hours=24)):
        work(database)
    assert counts(database, second)[0] == {"late": 2}


def test_two_workers_never_give_the_last_room_twice(
    database, settings, job_context, keeper, audience
):
    limit(database, 1, 1, "day")
    sends = audience(400, 2)
    for ident in sends:
        start(database, settings, ident, 400)
        with clock.at(NOW):
            jobs.run_here("sends.take", send_id=ident)

    def deliver():
        with clock.at(NOW):
            for _ in range(6):
                jobs.run_here("outgoing.deliver")

    workers = [threading.Thread(target=deliver) for _ in range(2)]
    for one in workers:
        one.start()
    for one in workers:
        one.join(60)
    with clock.at(NOW):
        work(database)
    got = [letter.to for letter in keeper.letters]
    assert len(got) == len(set(got)) == 400, "everybody one, and nobody two"
    found = [counts(database, ident)[0] for ident in sends]
    assert sum(one.get("delivered", 0) for one in found) == 400
    assert sum(one.get("waiting", 0) for one in found) == 400


@pytest.mark.parametrize(
    ("given", "error"),
    [
        ((0, 1, "day"), Invalid),
        ((1, 0, "day"), Invalid),
        ((1, 91, "day"), Invalid),
        ((1, 1, "year"), Invalid),
        ((1, 1, "day", "pigeon"), Invalid),
        ((2, 1, "week"), Conflict),
    ],
)
def test_what_is_no_limit_is_refused(database, given, error):
    limit(database, 1, 1, "week")
    with pytest.raises(error):
        limit(database, *given)


def test_the_page_of_limits(database, web):
    """All numbers are saved as one; what is wrong is said, and nothing typed is lost."""
    page = web.get("/message-limits").get_data(as_text=True)
    assert "Nothing was sent in the last 90 days" in words(page)
    form = {"most:email::week:1": "2", "most:::day:1": "", "csrf_token": "x"}
    assert web.post("/message-limits", data=form).status_code == 303
    page = web.get("/message-limits").get_data(as_text=True)
    assert re.search(r'name="most:email::week:1"\s+value="2"', page)
    wrong = web.post("/message-limits", data={"most:email::week:1": "5000"})
    assert wrong.status_code == 422
    page = wrong.get_data(as_text=True)
    assert "between 1 and 1,000 messages" in page and 'value="5000"' in page
    more = {"most": "1", "channel": "sms", "tag": "", "length": "90", "unit": "minute"}
    web.post("/message-limits", data=form | more | {"more": "1"})
    with database.session() as session:
        assert [cap.words() for cap in caps.all_caps(session)] == [
            "at most 2 emails a week",
            "at most 1 text message in 90 minutes",
        ]
    assert "text messages in 90 minutes" in words(web.get("/message-limits").get_data(as_text=True))
    web.post("/message-limits", data={})
    with pytest.raises(NotFound), database.session() as session:
        assert caps.limits(session) == []
        caps.delete(session, IDA, NOW, 1)


def test_a_limit_by_tag_takes_in_every_tag_under_it(
    database, settings, job_context, keeper, audience
):
    first, second, third = audience(2, 3)
    with clock.at(NOW), database.session() as session:
        for ident, path in ((first, "season/leonids"), (second, "season"), (third, "other")):
            send = session.get_one(Send, ident)
            tags.put_on(session, IDA, NOW, "campaign", send.campaign_id, [path])
        season = session.scalar(sa.select(Tag.id).where(Tag.path == "season"))
        caps.save(session, IDA, NOW, Cap(1, 1, "day"), season)
    assert sent(database, settings, first, 2) == {"delivered": 2}
    assert sent(database, settings, second, 2) == {"waiting": 2}
    assert sent(database, settings, third, 2) == {"delivered": 2}
    with clock.at(NOW), database.session() as session:
        other = session.scalars(sa.select(Tag).where(Tag.path == "other")).one()
        caps.save(session, IDA, NOW, Cap(1, 1, "day"), other.id)
        with pytest.raises(Conflict) as problem:
            tags.delete(session, IDA, NOW, other)
    assert "a message limit" in str(problem.value)


def test_two_tags_that_become_one_keep_the_smaller_limit(database):
    with clock.at(NOW), database.session() as session:
        one, other = tags.numbers(session, NOW, ["leonids", "meteors"])
        caps.save(session, IDA, NOW, Cap(3, 1, "week"), one)
        caps.save(session, IDA, NOW, Cap(2, 1, "week"), other)
        caps.save(session, IDA, NOW, Cap(5, 1, "day"), one)
        tags.move(session, IDA, NOW, session.get_one(Tag, one), "meteors")
        session.expire_all()
        found = [(limit.tag_id, limit.unit, limit.most) for limit in caps.limits(session)]
    assert found == [(other, "day", 5), (other, "week", 2)]


def test_who_waits_longest_takes_the_room_that_comes(
    database, settings, job_context, keeper, audience
):
    limit(database, 1, 1, "day")
    first, second, third = audience(1, 3)
    sent(database, settings, first, 1)
    # The third begins later; its dispatch would be the next in turn.
    sent(database, settings, second, 1)
    sent(database, settings, third, 1, NOW + dt.timedelta(hours=1))
    assert waiting(database, second) == waiting(database, third) == [MIDNIGHT]
    with clock.at(MIDNIGHT):
        work(database)
    assert counts(database, second)[0] == {"delivered": 1}
    assert waiting(database, third) == [MIDNIGHT + dt.timedelta(days=1)]


def test_service_takes_the_room_before_who_waits_longer(
    database, settings, job_context, keeper, audience
):
    limit(database, 1, 1, "day")
    first, second, third = audience(1, 3)
    with database.session() as session:
        session.get_one(Send, third).consent_rule = "service"
    sent(database, settings, first, 1)
    sent(database, settings, second, 1)
    sent(database, settings, third, 1, NOW + dt.timedelta(hours=1))
    with clock.at(MIDNIGHT):
        work(database)
    assert counts(database, third)[0] == {"delivered": 1}
    assert waiting(database, second) == [MIDNIGHT + dt.timedelta(days=1)]


def test_a_bounce_gives_the_room_back_at_once(database, settings, job_context, keeper, audience):
    limit(database, 1, 1, "day")
    first, second = audience(2, 2)
    sent(database, settings, first, 2)
    sent(database, settings, second, 2)
    with clock.at(NOW), database.session() as session:
        contact = session.scalar(sa.select(sa.func.min(Contact.id)))
        number = number_of(database, first, contact)
        bounce(session, NOW, number, contact, hard=False, words="452 full")
    with clock.at(NOW):
        work(database)
    assert counts(database, second)[0] == {"delivered": 1, "waiting": 1}


def test_all_limits_are_set_at_once(database):
    wanted = [
        caps.Wanted("", None, "week", 1, 6),
        caps.Wanted("email", None, "day", 1, 1),
        caps.Wanted("email", None, "minute", 90, 1),
    ]
    with clock.at(NOW), database.session() as session:
        assert caps.set_all(session, IDA, NOW, wanted) == 3
        assert caps.set_all(session, IDA, NOW, wanted) == 0
        changed = [wanted[0], caps.Wanted("email", None, "day", 1, 2)]
        assert caps.set_all(session, IDA, NOW, changed) == 2
        assert [cap.words() for cap in caps.all_caps(session)] == [
            "at most 6 messages a week",
            "at most 2 emails a day",
        ]
        for wrong in (
            caps.Wanted("email", None, "day", 1, 0),
            caps.Wanted("email", None, "year", 1, 1),
            caps.Wanted("email", 999, "day", 1, 1),
        ):
            with pytest.raises(Invalid):
                caps.set_all(session, IDA, NOW, [wrong])


def test_how_many_messages_people_get_in_a_week(
    database, settings, job_context, keeper, audience, web
):
    """Three people get the first of three sends of this week, all of them the others."""
    first, second, third = audience(5, 3)
    with database.session() as session:
        few = session.scalars(sa.select(Contact.id).order_by(Contact.id).limit(3)).all()
        chosen = keeping.make_list(session, IDA, NOW, "Three", "by hand", list(few))
        session.get_one(Send, first).audience = {"in": [{"list": chosen.id}], "out": []}
        lines = [{"id": "a", "kind": "list", "list": chosen.id}]
        of_three = save_segment(
            session, IDA, NOW, dictionary(session), "The three", {"format": 1, "lines": lines}
        ).id
    for ident, people in ((first, 3), (second, 5), (third, 5)):
        sent(database, settings, ident, people)
    with database.session() as session:
        look = Moment(session, dictionary(session), NOW, zoneinfo.ZoneInfo("Europe/London"))
        found = pressure.weeks(look, ["email"], None)
        assert (found[-1].monday, found[-1].people) == (NOW.date(), {2: 2, 3: 3})
        assert [week.people for week in found[:-1]] == [{}] * 7
        three = pressure.weeks(look, ["email"], session.get_one(Segment, of_three))
        assert three[-1].people == {3: 3} and three[-1].reached == 3
    with clock.at(NOW):
        page = words(web.get(f"/message-limits/people?segment={of_three}").get_data(as_text=True))
    assert "of The three" in page and "23 Nov 2026 0 0 3 0 0 3" in page


def test_the_replay_of_history_is_what_really_would_have_happened(
    database, settings, job_context, keeper, audience
):
    """The same sends to some hundred people (1,000 in the long suite), once without limits, whose
    history is replayed, and once with them: each message goes at the same moment, or not at all."""
    chance = random.Random(7)
    most = 1000 if LONG else 200
    rules = [
        Cap(1, chance.choice([1, 2]), "day"),
        Cap(chance.choice([2, 3]), 1, "week", "email"),
    ]
    starts = sorted(chance.sample(range(6 * 24), 6))
    idents = audience(most, 12, within_hours=72)
    with database.session() as session:
        zones = ("Europe/London", "America/New_York", "Pacific/Kiritimati", None)
        for number, person in enumerate(session.scalars(sa.select(Contact))):
            person.timezone = zones[number % 4]
    for place, hours in enumerate(starts):
        now = NOW + dt.timedelta(hours=hours)
        sent(database, settings, idents[place], most, now)
    later = NOW + dt.timedelta(days=30)
    with database.session() as session:
        people, found = tried.past(
            session, later, zoneinfo.ZoneInfo("Europe/London"), ["email"], most
        )
    assert people == most == len(found)
    replayed = [replay(one.sent, rules, one.zone) for one in found]
    # Now with limits, as if nothing had been sent before.
    with clock.at(NOW), database.session() as session:
        session.execute(sa.text("UPDATE dispatches SET counts = false"))
        for cap in rules:
            caps.save(session, IDA, NOW, cap)
    for hours in range(9 * 24):
        now = NOW + dt.timedelta(hours=hours)
        # Days begin in London, New York and on Kiritimati.
        if hours not in starts and now.hour not in (0, 5, 10):
            continue
        with clock.at(now):
            if hours in starts:
                ident = idents[6 + starts.index(hours)]
                start(database, settings, ident, most)
                jobs.run_here("sends.take", send_id=ident)
            work(database)
    with database.session() as session:
        rows = session.execute(
            sa.text(
                "SELECT d.contact_id, array_agg(CASE WHEN d.outcome = 'delivered' THEN d.at END "
                "ORDER BY d.dispatch_id) AS at FROM deliveries d JOIN sends s ON "
                "s.dispatch_id = d.dispatch_id WHERE s.id = ANY(:ids) GROUP BY 1 ORDER BY 1"
            ),
            {"ids": list(idents[6:])},
        ).all()
    really = [list(row.at) for row in rows]
    assert really == [[fate.at for fate in fates] for fates in replayed]
    assert any(at is None for one in really for at in one)


def test_what_a_planned_send_would_meet(database, settings, job_context, keeper):
    """One email a week. On Monday everybody had one: a send for Thursday meets the limit, one for
    next Monday does not, but where another is planned for Sunday's people before it."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 4)
        caps.save(session, IDA, NOW, Cap(1, 1, "week"))
        everyone = {"in": [{"everyone": True}], "out": []}
        first = ready_send(session, NOW, everyone)
        actions.start(session, IDA, NOW, first, settings.public_url, 4, first.version)
    go(database, NOW)
    thursday, monday = NOW + dt.timedelta(days=3), NOW + dt.timedelta(days=7)

    def met(leaves_at):
        with clock.at(NOW), database.session() as session:
            send = ready_send(session, NOW, everyone)
            send.leaves_at = leaves_at
            session.flush()
            look = Moment(session, dictionary(session), NOW, zoneinfo.ZoneInfo("Europe/London"))
            found = estimate(look, send).without_room
            assert room.without_room(look, send, leaves_at or NOW) == found
            session.delete(send)
            return found

    assert (met(None), met(thursday), met(monday)) == (4, 4, 0)
    with clock.at(NOW), database.session() as session:
        some = make_list(session, IDA, NOW, "Two of them", "by hand", [1, 2])
        planned = ready_send(session, NOW, {"in": [{"list": some.id}], "out": []})
        planned.leaves_at = monday - dt.timedelta(hours=2)
        session.flush()
        actions.start(session, IDA, NOW, planned, settings.public_url, 2, planned.version)
        assert planned.state == "planned"
        number = planned.id
    assert (met(monday), met(monday + dt.timedelta(days=7))) == (2, 0)
    # One that does not count takes no room, and neither does one of the week before.
    for changed in ({"counts": False}, {"begins_at": monday - dt.timedelta(days=2)}):
        with database.session() as session:
            for name, value in changed.items():
                setattr(session.get_one(Send, number), name, value)
        assert met(monday) == 0
        with database.session() as session:
            session.get_one(Send, number).counts = True
