"""Best hours learnt from real reactions: tried against the hidden truth of a demo world, and used
by sends."""

import datetime as dt
import zoneinfo

import numpy as np
import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.timing.best_hours import HOURS, KNOWN
from meadowrun.core.timing.zones import zone_of
from meadowrun.demo.load import load
from meadowrun.outgoing import best_hours
from meadowrun.outgoing.models import BestHours, Delivery, Dispatch
from meadowrun.outgoing.timing import judge_again
from meadowrun.people.models import Contact
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.sends import actions
from meadowrun.sends.estimates import estimate
from meadowrun.sends.models import Send
from meadowrun.sends.timing import arrivals
from meadowrun.village.store import pull
from tests.conftest import NOW
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, go, segment
from tests.store.web import sign_in

LONDON = zoneinfo.ZoneInfo("Europe/London")
#: Months of the demo world's history that nothing is learnt from.
LAST = dt.timedelta(days=122)
_REACTED = """
SELECT contact_id, count(DISTINCT dispatch_id) AS times FROM reactions
WHERE kind IN ('opened', 'clicked') AND NOT machine AND at < :before GROUP BY 1
"""
_LATER = """
SELECT DISTINCT contact_id FROM deliveries WHERE outcome = 'delivered' AND at >= :since
"""


def responses(world, zones, people, hours):
    """How much likelier than usual each of some people truly opens what comes at an hour of their
    own clock, times how likely they open at all."""
    found = []
    for contact, hour in zip(people, hours, strict=True):
        there = zone_of(zones[contact]) or LONDON
        away = world.moment.astimezone(there).utcoffset().total_seconds() / 3600
        truly = world.hour[contact - 1] - (hour - away)
        found.append(world.opens[contact - 1] * pull(truly))
    return np.array(found)


def test_the_hidden_truth_of_the_demo_world(database, settings, capsys, monkeypatch):
    """Learnt on ten months; of the people who got something in the last four, the true response at
    the hours chosen closes at least half the gap between the best single hour and the best hour of
    each."""
    # The world is made as of a moment: the same on every day.
    monkeypatch.setattr(clock, "machine_now", lambda: NOW)
    world = load(database, settings, 3000, "http://127.0.0.1:2", lambda _: None)
    parted = world.moment - LAST
    with database.session() as session:
        found = best_hours.learn(session, parted, LONDON)
        usual = found.usual
        chosen = {row.contact_id: row.hours[0] for row in session.scalars(sa.select(BestHours))}
        zones = dict(session.execute(sa.select(Contact.id, Contact.timezone)).all())
        times = dict(session.execute(sa.text(_REACTED), {"before": parted}).all())
        people = sorted(session.scalars(sa.text(_LATER), {"since": parted}))
    assert len(people) > 1000
    groups = {
        "everybody": people,
        f"{KNOWN} reactions and more": [p for p in people if times.get(p, 0) >= KNOWN],
        f"1 to {KNOWN - 1}": [p for p in people if 0 < times.get(p, 0) < KNOWN],
        "none": [p for p in people if not times.get(p)],
    }
    every = {h: responses(world, zones, people, [h] * len(people)).mean() for h in range(HOURS)}
    single = max(every, key=every.get)
    closed = {}
    for name, some in groups.items():
        at_single = responses(world, zones, some, [single] * len(some)).mean()
        at_chosen = responses(world, zones, some, [chosen.get(p, usual[0]) for p in some]).mean()
        best = (1.3 * world.opens[np.array(some) - 1]).mean()
        closed[name] = (at_chosen - at_single) / (best - at_single)
        with capsys.disabled():
            print(
                f"\n{name}: {len(some)} people, response {at_single:.4f} at {single}:00, "
                f"{at_chosen:.4f} at the hours chosen, {best:.4f} at best: "
                f"{closed[name]:.0%} of the gap closed",
                end="",
            )
    assert closed["everybody"] >= 0.5
    assert closed[f"{KNOWN} reactions and more"] > closed[f"1 to {KNOWN - 1}"] > closed["none"]
    # What is told of how well it does is measured on reactions it has not seen.
    assert found.tested > 500
    assert found.own_share > found.single_share + 0.05
    assert found.own == sum(count >= KNOWN for count in times.values())
    assert found.few == sum(0 < count < KNOWN for count in times.values())


@pytest.fixture
def habits(database):
    """Says when people react: contact → (hours, the best first; reactions they are known by)."""

    def say(known, usual=20):
        rest = [hour for hour in range(HOURS) if hour != usual]
        with database.session() as session:
            session.execute(
                sa.text(
                    "INSERT INTO habits VALUES (1, :now, :usual, 1, 1, 100, 20, 0.2, 0.5) "
                    "ON CONFLICT DO NOTHING"
                ),
                {"now": NOW, "usual": [usual, *rest]},
            )
            for contact, (hours, times) in known.items():
                others = [hour for hour in range(HOURS) if hour not in hours]
                session.add(BestHours(contact_id=contact, hours=[*hours, *others], known=times))

    return say


@pytest.fixture
def sent(database, settings, job_context, habits):
    """A send at each person's best hour, started at NOW (14:00 in London, a Monday): its number."""

    def made(known, people, **how):
        with clock.at(NOW), database.session() as session:
            many(session, NOW, people)
            for person in session.scalars(sa.select(Contact)):
                person.timezone = how.get("zones", {}).get(person.id, "Europe/London")
            who = {"in": [{"segment": segment(session).id}], "out": []}
            send = ready_send(session, NOW, who)
            send.best_hour = True
            for name, value in how.items():
                if name != "zones":
                    setattr(send, name, value)
        habits(known)
        with clock.at(NOW), database.session() as session:
            send = session.scalars(sa.select(Send)).one()
            actions.start(session, IDA, NOW, send, settings.public_url, people, send.version)
            return send.id

    return made


def at(text):
    return dt.datetime.fromisoformat(text).replace(tzinfo=dt.UTC)


def dues(database):
    with database.session() as session:
        rows = session.scalars(sa.select(Delivery).order_by(Delivery.contact_id))
        return {row.contact_id: (row.hour, row.due, row.outcome) for row in rows}


def test_everybody_gets_it_at_their_hour(database, sent, keeper):
    ident = sent(
        {1: ([18, 9], 6), 2: ([9], 2), 3: ([14], 9), 5: ([19], 7)},
        5,
        zones={5: "America/New_York"},
    )
    go(database, NOW)
    assert dues(database) == {
        1: (18, at("2026-11-23T18:00"), "waiting"),
        2: (9, at("2026-11-24T09:00"), "waiting"),
        # It is 14:00 already.
        3: (14, at("2026-11-23T14:00"), "delivered"),
        # Nothing is known of the fourth: the usual hour.
        4: (20, at("2026-11-23T20:00"), "waiting"),
        5: (19, at("2026-11-24T00:00"), "waiting"),
    }
    with database.session() as session:
        kept = session.scalars(sa.select(Delivery).where(Delivery.contact_id == 2)).one()
        assert kept.stood_on == {"because": "best_hour"}
        # A day more than the seven of the sheet, since everybody's hour comes within a day.
        assert session.scalars(sa.select(Dispatch)).one().last_moment == at("2026-12-01T14:00")
    for moment, delivered in (
        ("2026-11-23T17:59", 1),
        ("2026-11-23T18:00", 2),
        ("2026-11-23T20:00", 3),
        ("2026-11-24T00:00", 4),
        ("2026-11-24T09:00", 5),
    ):
        go(database, at(moment))
        assert counts(database, ident)[0].get("delivered", 0) == delivered
    assert counts(database, ident)[1].state == "done"


def test_within_the_hours_of_the_send(database, sent, keeper):
    """Whose best hour is closed gets it at the best of those that are open."""
    sent({1: ([20, 22, 10], 9), 2: ([6, 16], 9)}, 2, hours={"from": "09:00", "to": "17:00"})
    go(database, NOW)
    assert dues(database) == {
        1: (10, at("2026-11-24T10:00"), "waiting"),
        2: (16, at("2026-11-23T16:00"), "waiting"),
    }


def test_somebody_whose_zone_changes_is_judged_anew_with_their_hour(database, sent, keeper):
    sent({1: ([18], 9)}, 1)
    go(database, NOW)
    assert dues(database)[1][1] == at("2026-11-23T18:00")
    with clock.at(NOW), database.session() as session:
        session.get_one(Contact, 1).timezone = "America/New_York"
        session.flush()
        judge_again(session, NOW, [1])
    go(database, NOW)
    assert dues(database)[1] == (18, at("2026-11-23T23:00"), "waiting")


def test_the_sheet_says_when(database, sent, keeper):
    """The picture of a send counts people by the hour that would be chosen for them."""
    ident = sent({1: ([18], 9), 2: ([18], 9), 3: ([9], 1)}, 4, zones={2: "America/New_York"})
    with clock.at(NOW), database.session() as session:
        send = session.get_one(Send, ident)
        guess = estimate(Moment(session, dictionary(session), NOW, LONDON), send)
        assert set(guess.zones) == {
            ("Europe/London", 18, 1),
            ("America/New_York", 18, 1),
            ("Europe/London", 9, 1),
            ("Europe/London", 20, 1),
        }
        found = arrivals(session, send, "email", guess.zones, NOW, LONDON)
    assert list(found.moments) == [
        (at("2026-11-23T18:00"), 1),
        (at("2026-11-23T20:00"), 1),
        (at("2026-11-23T23:00"), 1),
        (at("2026-11-24T09:00"), 1),
    ]


def test_before_anything_was_learnt_it_goes_at_once(database, settings, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        send.best_hour = True
        session.flush()
        actions.start(session, IDA, NOW, send, settings.public_url, 3, send.version)
        ident = send.id
    go(database, NOW)
    assert counts(database, ident)[0] == {"delivered": 3}


def reacted(database, contact, *moments, machine=False):
    """A message to a contact at each of some moments, opened then."""
    with database.session() as session:
        for number, moment in enumerate(moments):
            session.execute(
                sa.text(
                    "INSERT INTO reactions (contact_id, at, dispatch_id, delivery, kind, machine, "
                    "note) VALUES (:contact, :at, :dispatch, :dispatch, 'opened', :machine, '')"
                ),
                {
                    "contact": contact,
                    "at": at(moment),
                    "dispatch": 1000 * contact + number,
                    "machine": machine,
                },
            )


def test_what_the_page_says(client, database, habits, still):
    """Three people: one known by five reactions, one by one, one by none; what a program opened
    does not count. London is an hour ahead of UTC in October."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        session.execute(sa.text("UPDATE contacts SET timezone = 'Europe/London'"))
    days = ("2026-11-02", "2026-11-09", "2026-11-16", "2026-11-20", "2026-11-21")
    reacted(database, 1, *(f"{day}T19:30" for day in days))
    reacted(database, 2, "2026-10-05T08:10")
    reacted(database, 3, "2026-11-16T03:00", machine=True)
    with clock.at(NOW), database.session() as session:
        best_hours.learn(session, NOW, LONDON)
        week = best_hours.Week(Moment(session, dictionary(session), NOW, LONDON), None)
        found = week.reactions()
        assert (found[0][19], found[4][19], found[5][19], found[0][9]) == (3, 1, 1, 1)
        assert sum(map(sum, found)) == 6
        assert week.known() == {"own": 1, "few": 1, "none": 1}
        assert sum(week.best()) == 3
        assert session.get_one(BestHours, 1).hours[0] == 19
        assert session.get(BestHours, 3) is None
    sign_in(client)
    page = client.get("/best-hours").text
    assert "Monday 19:00: 3" in page
    assert "<b>1 person</b> by five or more reactions of their own" in page


def test_the_hours_of_a_segment_and_of_one_with_an_error(client, database, still):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 3)
        some = segment(session).id
    sign_in(client)
    assert "None of them opened" in client.get(f"/best-hours?segment={some}").text
    with database.session() as session:
        session.execute(
            sa.text(
                'UPDATE segments SET definition = \'{"format": 1, "lines": [{"id": "a", '
                '"kind": "field", "field": "gone", "op": "filled"}]}\' WHERE id = :id'
            ),
            {"id": some},
        )
    answer = client.get(f"/best-hours?segment={some}")
    assert answer.status_code == 200
    assert 'role="alert"' in answer.text


def test_forgotten_with_the_reactions(database):
    """Whose reactions are all too old is known by nothing."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 1)
    reacted(database, 1, "2026-11-02T19:30")
    with database.session() as session:
        best_hours.learn(session, NOW, LONDON)
        assert session.get(BestHours, 1).known == 1
        session.expire_all()
        best_hours.learn(session, NOW + dt.timedelta(days=500), LONDON)
        assert session.get(BestHours, 1) is None
