"""When what leaves reaches each person: their own clock, hours, portions, quiet hours; and who is
left out because they had it before."""

import datetime as dt
import random
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.guardrails.caps import Cap
from meadowrun.core.guardrails.outcomes import OUTCOMES
from meadowrun.outgoing import calendars, caps, quiet
from meadowrun.outgoing.models import Delivery, Holidays, QuietHours
from meadowrun.people import keeping
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.sends import actions, timing
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.shell.draw.pictures import COLOURS
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go, segment

#: NOW is 14:00 in London on Monday 23 November 2026.
LONDON = zoneinfo.ZoneInfo("Europe/London")
ZONES = (None, "Europe/London", "America/New_York", "Pacific/Kiritimati", "Pacific/Pago_Pago")


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


def local(text):
    return dt.datetime.fromisoformat(text)


@pytest.fixture
def send_to(database, settings, job_context):
    """A send to people of some zones, one of each, started: its number."""

    def made(zones, now=NOW, **how):
        with clock.at(now), database.session() as session:
            many(session, now, len(zones))
            people = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
            for person, zone in zip(people, zones, strict=True):
                person.timezone = zone
            who = {"in": [{"segment": segment(session).id}], "out": []}
            send = ready_send(session, now, who)
            for name, value in how.items():
                setattr(send, name, value)
            session.flush()
            actions.start(session, IDA, now, send, settings.public_url, len(zones), send.version)
            return send.id

    return made


def standing(database, ident):
    """Where everybody of a send stands, in the order of their records: outcome, when (due while
    they wait, else when it went), and why."""
    with database.session() as session:
        dispatch = session.get_one(Send, ident).dispatch_id
        rows = session.scalars(
            sa.select(Delivery)
            .where(Delivery.dispatch_id == dispatch)
            .order_by(Delivery.contact_id)
        ).all()
        return [
            (
                row.outcome,
                row.due if row.outcome == "waiting" else row.at,
                (row.stood_on or {}).get("because"),
            )
            for row in rows
        ]


def test_a_moment_on_each_persons_own_clock(database, send_to, keeper):
    ident = send_to(
        ZONES,
        leaves_at=at("2026-11-25T09:00"),
        local_at=local("2026-11-25T09:00"),
        zone="Europe/London",
    )
    with database.session() as session:
        send = session.get_one(Send, ident)
        # First it is 9:00 on Kiritimati: 19:00 UTC of the day before.
        assert (send.state, send.begins_at) == ("planned", at("2026-11-24T19:00"))
    go(database, at("2026-11-24T18:59"))
    with database.session() as session:
        assert session.get_one(Send, ident).state == "planned"
    go(database, at("2026-11-24T19:00"))
    expected = ["09:00", "09:00", "14:00", None, "20:00"]
    assert standing(database, ident) == [
        ("waiting", at(f"2026-11-25T{hour}"), "own_clock")
        if hour
        else ("delivered", at("2026-11-24T19:00"), None)
        for hour in expected
    ]
    for hour, people in (("08:59", 1), ("09:00", 3), ("14:00", 4), ("20:00", 5)):
        go(database, at(f"2026-11-25T{hour}"))
        assert counts(database, ident)[0]["delivered"] == people
    assert counts(database, ident)[1].state == "done"


@pytest.mark.parametrize(
    ("passed", "stands"),
    [
        ("now", ("delivered", NOW, None)),
        ("next_day", ("waiting", at("2026-11-24T09:00"), "own_clock")),
        ("skip", ("late", NOW, "passed")),
    ],
)
def test_people_whose_time_has_passed(database, send_to, keeper, passed, stands):
    """At 14:00 in London it is 9:00 in New York, and 9:00 has passed in London."""
    ident = send_to(
        ("Europe/London", "America/New_York", "Pacific/Pago_Pago"),
        leaves_at=at("2026-11-23T09:00"),
        local_at=local("2026-11-23T09:00"),
        passed=passed,
    )
    go(database, NOW)
    assert standing(database, ident) == [
        stands,
        ("delivered", NOW, None),
        ("waiting", at("2026-11-23T20:00"), "own_clock"),
    ]


def test_a_moment_that_has_passed_everywhere_is_refused(database, send_to, keeper):
    with pytest.raises(Invalid) as problem:
        send_to(
            ("Europe/London",),
            leaves_at=at("2026-11-22T09:00"),
            local_at=local("2026-11-22T09:00"),
        )
    assert problem.value.where == "leaves"


def test_hours_are_each_persons_own_and_nobody_is_claimed_before(database, send_to, keeper):
    work_hours = {"from": "09:00", "to": "12:00", "days": [0, 1, 2, 3, 4]}
    ident = send_to(("Europe/London", "America/New_York", "Asia/Tokyo"), hours=work_hours)
    go(database, NOW)
    assert standing(database, ident) == [
        ("waiting", at("2026-11-24T09:00"), "hours"),
        ("delivered", NOW, None),
        ("waiting", at("2026-11-24T00:00"), "hours"),
    ]
    # Who waits since the beginning was never claimed.
    with database.session() as session:
        assert session.scalar(sa.text("SELECT count(claimed_at) FROM deliveries")) == 1


def test_holidays_close_a_day(database, send_to, keeper):
    with clock.at(NOW), database.session() as session:
        made = calendars.save(session, IDA, NOW, "", "GB", None)
        assert made.name == "United Kingdom" and made.days["2026-12-25"] == "Christmas Day"
        hours = {"from": "09:00", "to": "17:00", "days": [4], "calendar": made.id}
    # Fridays only; 25 December 2026 is one, and 1 January 2027 is a holiday, too.
    now = at("2026-12-20T12:00")
    ident = send_to(("Europe/London",), now=now, hours=hours, within_hours=720)
    go(database, now)
    assert standing(database, ident) == [("waiting", at("2027-01-08T09:00"), "hours")]
    with clock.at(now), database.session() as session, pytest.raises(Conflict):
        calendars.delete(session, IDA, now, made.id)


def test_quiet_hours_wait_or_drop_and_service_messages_go_on(database, send_to, keeper):
    night = at("2026-11-23T23:00")
    with clock.at(night), database.session() as session:
        quiet.save(session, IDA, night, "email", "21:00", "08:00", "wait")
    ident = send_to(("Europe/London", "Asia/Tokyo"), now=night)
    go(database, night)
    assert standing(database, ident) == [
        ("waiting", at("2026-11-24T08:00"), "quiet_hours"),
        ("delivered", night, None),
    ]
    with clock.at(night), database.session() as session:
        quiet.save(session, IDA, night, "email", "21:00", "08:00", "drop")
    go(database, night)
    assert standing(database, ident)[0] == ("quiet", night, "quiet_hours")


def test_service_messages_know_no_quiet_hours(database, send_to, keeper):
    night = at("2026-11-23T23:00")
    with clock.at(night), database.session() as session:
        quiet.save(session, IDA, night, "email", "21:00", "08:00", "wait")
    ident = send_to(("Europe/London",), now=night, consent_rule="service")
    go(database, night)
    assert standing(database, ident) == [("delivered", night, None)]


def test_who_waits_is_judged_again_when_quiet_hours_change(database, send_to, keeper):
    night = at("2026-11-23T23:00")
    with clock.at(night), database.session() as session:
        quiet.save(session, IDA, night, "email", "21:00", "08:00", "wait")
    ident = send_to(("Europe/London",), now=night)
    go(database, night)
    with clock.at(night), database.session() as session:
        quiet.save(session, IDA, night, "email", "21:00", "06:30", "wait")
    go(database, night)
    assert standing(database, ident) == [
        ("waiting", at("2026-11-24T06:30"), "quiet_hours"),
    ]
    with clock.at(night), database.session() as session:
        quiet.delete(session, IDA, night, "email")
    go(database, night)
    assert standing(database, ident) == [("delivered", night, None)]


def test_who_waits_is_judged_again_when_their_zone_is_another(database, send_to, keeper):
    ident = send_to(
        ("Europe/London", "Europe/London", "Asia/Tokyo"),
        leaves_at=at("2026-11-23T20:00"),
        local_at=local("2026-11-23T20:00"),
        passed="now",
    )
    go(database, NOW)
    waits = ("waiting", at("2026-11-23T20:00"), "own_clock")
    assert standing(database, ident) == [waits, waits, ("delivered", NOW, None)]
    with database.session() as session:
        # There it is 23:00 already.
        session.scalars(sa.select(Contact).order_by(Contact.id)).first().timezone = "Asia/Tokyo"
    go(database, NOW)
    assert [outcome for outcome, _, _ in standing(database, ident)] == [
        "delivered",
        "waiting",
        "delivered",
    ]


@pytest.mark.parametrize(
    "because",
    ["cap", "own_limit", "hours", "quiet_hours", "own_clock", "best_hour", "portion"],
)
def test_whatever_a_zone_decides_is_judged_again(database, send_to, keeper, because):
    """Whoever waits for any such reason is due when their zone becomes another, and nobody else
    is."""
    ident = send_to(["Europe/London", "Europe/London"], hours={"from": "18:00", "to": "20:00"})
    go(database, NOW)
    with database.session() as session:
        session.execute(
            sa.text("UPDATE deliveries SET stood_on = CAST(:kept AS jsonb)"),
            {"kept": f'{{"because": "{because}"}}'},
        )
        session.get_one(Contact, 1).timezone = "Asia/Kolkata"
    first, second = standing(database, ident)
    assert (first[1], second[1]) == (NOW, at("2026-11-23T18:00"))


def test_rules_hold_together(database, send_to, keeper):
    """Room comes on Saturday at midnight; the hours are those of weekdays."""
    friday = at("2026-11-27T10:00")
    with clock.at(friday), database.session() as session:
        caps.save(session, IDA, friday, Cap(1, 1, "day"))
    hours = {"from": "09:00", "to": "17:00", "days": [0, 1, 2, 3, 4]}
    first = send_to(("Europe/London",), now=friday, hours=hours)
    go(database, friday)
    with clock.at(friday), database.session() as session:
        who = session.get_one(Send, first).audience
        second = ready_send(session, friday, who)
        second.hours = hours
        session.flush()
        ident = second.id
    with clock.at(friday), database.session() as session:
        send = session.get_one(Send, ident)
        actions.start(session, IDA, friday, send, "http://here.example", 1, send.version)
    go(database, friday)
    assert standing(database, ident) == [("waiting", at("2026-11-30T09:00"), "hours")]
    # Without the limit there is room today.
    with clock.at(friday), database.session() as session:
        caps.delete(session, IDA, friday, caps.limits(session)[0].id)
    go(database, friday)
    assert standing(database, ident) == [("delivered", friday, None)]


def test_portions_leave_one_after_the_other(database, send_to, keeper):
    hours = {"from": "09:00", "to": "15:00", "days": [0, 1, 2, 3, 4]}
    ident = send_to(
        ("Europe/London",) * 7, portion_size=2, portion_gap=30, hours=hours, within_hours=72
    )
    for moment, people in (
        (NOW, 2),
        (NOW + dt.timedelta(minutes=29), 2),
        (at("2026-11-23T14:30"), 4),
        # 15:00 is outside: what is left goes on in the morning, and not all of it at once.
        (at("2026-11-24T08:59"), 4),
        (at("2026-11-24T09:00"), 6),
        (at("2026-11-24T09:30"), 7),
    ):
        go(database, moment)
        assert counts(database, ident)[0]["delivered"] == people
    with database.session() as session:
        sizes = session.execute(
            sa.text("SELECT portion, count(*) FROM deliveries GROUP BY 1 ORDER BY 1")
        ).all()
    assert [tuple(row) for row in sizes] == [(0, 2), (1, 2), (2, 2), (3, 1)]


def test_portions_stop_when_too_many_bounce(database, send_to, keeper):
    """Half of all addresses refuse."""
    keeper.refuse = {f"p{n}@post.example" for n in range(1, 61, 2)}
    ident = send_to(("Europe/London",) * 60, portion_size=30, portion_gap=30, stop_percent=5)
    go(database, NOW)
    found = counts(database, ident)[0]
    assert found["delivered"] + found["bounced"] == found["waiting"] == 30
    go(database, NOW + dt.timedelta(seconds=5))
    send = counts(database, ident)[1]
    assert send.state == "paused"
    assert f"{found['bounced']} of 30 bounced or complained, more than 5%" in send.trouble
    go(database, NOW + dt.timedelta(hours=1))
    assert counts(database, ident)[0]["waiting"] == 30
    with clock.at(NOW), database.session() as session:
        actions.resume(session, IDA, NOW, session.get_one(Send, ident))
    go(database, NOW + dt.timedelta(hours=2))
    assert counts(database, ident)[1].state == "done"


def test_few_bounces_stop_nothing(database, send_to, keeper):
    keeper.refuse = {"p1@post.example"}
    ident = send_to(("Europe/London",) * 4, portion_size=2, portion_gap=30, stop_percent=5)
    for minutes in (0, 30):
        go(database, NOW + dt.timedelta(minutes=minutes))
    assert counts(database, ident)[0] == {"bounced": 1, "delivered": 3}


def test_once_for_each_person(database, settings, send_to, keeper):
    first = send_to(("Europe/London",) * 3)
    go(database, NOW)
    with clock.at(NOW), database.session() as session:
        before = session.get_one(Send, first)
        made = []
        for rule, campaign, message in (
            ("message", None, before.message_id),
            ("campaign", before.campaign_id, None),
            ("each", before.campaign_id, before.message_id),
        ):
            send = ready_send(session, NOW, before.audience)
            send.again_rule, send.again_days = rule, 7
            send.campaign_id = campaign or send.campaign_id
            send.message_id = message or send.message_id
            session.flush()
            made.append(send.id)
        looks = [
            estimate(Moment(session, dictionary(session), NOW, LONDON), session.get_one(Send, i))
            for i in made
        ]
        assert [look.outcomes for look in looks] == [{"had_it": 3}, {"had_it": 3}, {"go": 3}]
    week = NOW + dt.timedelta(days=7, seconds=1)
    for ident in made:
        # One after another: what goes at the same moment may be the first of its campaign.
        with clock.at(week), database.session() as session:
            send = session.get_one(Send, ident)
            actions.start(session, IDA, week, send, settings.public_url, 3, send.version)
        go(database, week)
    found = [counts(database, ident)[0] for ident in made]
    # The campaign's week is over, and then it has had something again.
    assert found == [{"had_it": 3}, {"delivered": 3}, {"delivered": 3}]


def test_every_outcome_has_a_colour_and_pages(database, settings, send_to, keeper, web):
    """Somebody had it before, somebody is in quiet hours, somebody waits, and for somebody the time
    has passed: the sheet, the running send, its result and who stands behind each open."""
    assert set(OUTCOMES) <= set(COLOURS)
    first = send_to(("Europe/London",) * 5)
    with clock.at(NOW), database.session() as session:
        before = session.get_one(Send, first)
        people = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
        for person, zone in zip(people, ("Europe/London", *ZONES[1:]), strict=True):
            person.timezone = zone
        chosen = keeping.make_list(session, IDA, NOW, "One", "by hand", [people[0].id])
        before.audience = {"in": [{"list": chosen.id}], "out": []}
        message = before.message_id
    go(database, NOW)
    with clock.at(NOW), database.session() as session:
        quiet.save(session, IDA, NOW, "email", "02:00", "08:30", "drop")
        send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
        send.message_id, send.again_rule = message, "message"
        send.local_at, send.passed = local("2026-11-23T13:00"), "skip"
        send.leaves_at = at("2026-11-23T13:00")
        session.flush()
        actions.start(session, IDA, NOW, send, settings.public_url, 4, send.version)
        ident = send.id
    go(database, NOW)
    with clock.at(NOW):
        for path in (f"/sends/{ident}", f"/results/{ident}", f"/sends/{ident}/why?who=first"):
            assert web.get(path).status_code == 200, path
        for what in counts(database, ident)[0]:
            assert web.get(f"/results/{ident}/people/{what}").status_code == 200, what
    assert {"had_it", "late", "waiting"} <= counts(database, ident)[0].keys()
    with database.session() as session:
        session.execute(sa.text("UPDATE deliveries SET outcome = 'quiet' WHERE outcome = 'late'"))
    with clock.at(NOW):
        for path in (f"/sends/{ident}", f"/results/{ident}", f"/results/{ident}/people/quiet"):
            assert web.get(path).status_code == 200, path


def test_when_people_would_get_it(database, send_to, keeper):
    ident = send_to(
        ZONES,
        leaves_at=at("2026-11-25T09:00"),
        local_at=local("2026-11-25T09:00"),
        within_hours=1,
    )
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        guess = estimate(Moment(session, dictionary(session), NOW, LONDON), send)
        assert set(guess.zones) == {(name, None, 1) for name in ZONES}
        found = timing.arrivals(session, send, "email", guess.zones, NOW, LONDON)
    assert list(found.moments) == [
        (at("2026-11-24T19:00"), 1),
        (at("2026-11-25T09:00"), 2),
        (at("2026-11-25T14:00"), 1),
        (at("2026-11-25T20:00"), 1),
    ]
    # The last moment counts from when it may reach the last of them.
    assert (found.too_late, found.passed, found.assumed) == (0, 0, 1)


def test_holidays_of_a_country_reach_ahead_by_themselves(database, job_context):
    with clock.at(NOW), database.session() as session:
        made = calendars.save(session, IDA, NOW, "", "GB", None)
        assert "2028-12-25" in made.days and "2030-12-25" not in made.days
    later = NOW + dt.timedelta(days=800)
    with clock.at(later):
        jobs.run_here("outgoing.holidays")
    with database.session() as session:
        days = session.get_one(Holidays, made.id).days
    assert "2030-12-25" in days and "2026-12-25" not in days


CALENDAR = b"""BEGIN:VCALENDAR
VERSION:2.0
BEGIN:VEVENT
DTSTART;VALUE=DATE:20261224
DTEND;VALUE=DATE:20261227
SUMMARY:The dome is closed
END:VEVENT
BEGIN:VEVENT
DTSTART:20270101T090000Z
SUMMARY:New Year
END:VEVENT
END:VCALENDAR
"""


def test_days_of_a_file():
    assert calendars.of_file(CALENDAR) == {
        "2026-12-24": "The dome is closed",
        "2026-12-25": "The dome is closed",
        "2026-12-26": "The dome is closed",
        "2027-01-01": "New Year",
    }


@pytest.mark.parametrize(
    "data", [b"", b"\x00\xff\xfe", b"BEGIN:VCALENDAR\nEND:VCALENDAR", b"a" * 2_000_000]
)
def test_a_file_without_days_says_so(data):
    with pytest.raises(Invalid) as problem:
        calendars.of_file(data)
    assert problem.value.where == "file"


def test_a_file_cannot_ask_for_millions_of_days():
    long = CALENDAR.replace(b"20261227", b"99991231")
    with pytest.raises(Invalid):
        calendars.of_file(long)


def test_quiet_hours_need_two_times(database):
    with database.session() as session:
        for begins, ends, place in (("8", "9:00", "begins"), ("09:00", "09:00", "ends")):
            with pytest.raises(Invalid) as problem:
                quiet.save(session, IDA, NOW, "email", begins, ends, "wait")
            assert problem.value.where == place
        with pytest.raises(Invalid):
            quiet.save(session, IDA, NOW, "in_app", "21:00", "08:00", "wait")


def test_texts_have_quiet_hours_from_the_beginning(database):
    with database.session() as session:
        found = session.get_one(QuietHours, "sms")
        assert (found.begins, found.ends, found.does) == (21 * 60, 8 * 60, "wait")
        assert session.scalar(sa.select(sa.func.count()).select_from(Holidays)) == 0


def _expected(person, rules, moment):
    """A slow reading of the rules: whether a person is reached at a moment (by the minute), on
    their own clock."""
    here = moment.astimezone(zoneinfo.ZoneInfo(person["zone"] or "Europe/London"))
    minute = here.hour * 60 + here.minute
    if rules["local"] is not None:
        wanted = rules["local"].replace(tzinfo=here.tzinfo)
        if wanted < rules["starts"]:
            if rules["passed"] == "skip":
                return "never"
            wanted = rules["starts"] if rules["passed"] == "now" else wanted + dt.timedelta(days=1)
        if moment < wanted:
            return "waits"
    begins, ends, days = rules["hours"]
    if here.weekday() not in days or not begins <= minute < ends:
        return "waits"
    quiet_from, quiet_to = rules["quiet"]
    if minute >= quiet_from or minute < quiet_to:
        return "waits"
    return "goes"


@pytest.mark.parametrize("seed", range(4))
def test_a_slow_reading_of_all_rules_agrees(database, send_to, keeper, seed):
    """Random people and rules, the clock moved half an hour at a time through two days: whoever is
    reached, is reached at the first step at which all rules hold."""
    chance = random.Random(seed)
    people = [{"zone": chance.choice(ZONES)} for _ in range(12)]
    begins = chance.randrange(6, 12) * 60
    rules = {
        "starts": NOW,
        "local": chance.choice([None, local(f"2026-11-23T{chance.randrange(8, 22):02}:00")]),
        "passed": chance.choice(["now", "next_day", "skip"]),
        "hours": (begins, begins + 60 * chance.randrange(4, 10), tuple(range(7))),
        "quiet": (chance.randrange(19, 23) * 60, chance.randrange(5, 10) * 60),
    }
    with clock.at(NOW), database.session() as session:
        first, last = rules["quiet"]
        quiet.save(session, IDA, NOW, "email", f"{first // 60}:00", f"{last // 60}:00", "wait")
    span = {"from": f"{begins // 60:02}:00", "to": f"{rules['hours'][1] // 60:02}:00"}
    ident = send_to(
        [person["zone"] for person in people],
        leaves_at=rules["local"] and rules["local"].replace(tzinfo=LONDON),
        local_at=rules["local"],
        passed=rules["passed"],
        hours=span,
    )
    moment = NOW
    said = ["waits"] * len(people)
    reached = [None] * len(people)
    with database.session() as session:
        planned = session.get_one(Send, ident).begins_at
    rules["starts"] = max(NOW, planned)
    while moment < NOW + dt.timedelta(days=2):
        go(database, moment)
        for number, person in enumerate(people):
            if moment >= rules["starts"] and said[number] == "waits":
                said[number] = _expected(person, rules, moment)
                if said[number] == "goes":
                    reached[number] = moment
        if moment >= rules["starts"]:
            found = standing(database, ident)
            assert [
                {"delivered": "goes", "late": "never"}.get(outcome, "waits")
                for outcome, _, _ in found
            ] == said, (moment, rules)
            assert sum(counts(database, ident)[0].values()) == len(people)
        moment += dt.timedelta(minutes=30)
    assert [when for outcome, when, _ in found if outcome == "delivered"] == [
        when for when in reached if when
    ]
