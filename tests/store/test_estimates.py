"""In a large world: an estimate with its range first, kept sets shared by processes and renewed by
what changed, and the exact number behind it."""

import datetime as dt
import random
import zoneinfo

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, large
from meadowrun.base.cache import forget
from meadowrun.base.errors import NotFound
from meadowrun.core.audience import definition as d
from meadowrun.people import sampling, wholly
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import looking, sets
from meadowrun.segments.models import Segment
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds
from tests.store.people import many as add_many

ZONE = zoneinfo.ZoneInfo("Europe/London")
PEOPLE, SAMPLED = 6_000, 1_500
TOWN = {"kind": "field", "field": "town", "op": "is", "value": ["Tarn"]}
VISITED = {"kind": "event", "event": "visited", "span": {"last": 30}}
COLLEAGUES = {"kind": "group", "match": "colleagues", "lines": [{**TOWN, "id": "x"}]}


@pytest.fixture
def world(monkeypatch, database):
    """6,000 people are many here: 30 % in Tarn, 20 % visited lately."""
    monkeypatch.setattr(large, "LARGE", 1_000)
    forget()
    with clock.at(NOW), database.session() as session:
        visited = kinds(session)["visited"]
        add_many(session, NOW, PEOPLE)
        session.execute(
            sa.text("UPDATE contacts SET town = 'Tarn' WHERE hashint8extended(id, 3) & 1023 < 307")
        )
        session.execute(
            sa.text(
                "INSERT INTO events (contact_id, at, kind_id) SELECT id, :at, :kind FROM contacts "
                "WHERE hashint8extended(id, 4) & 1023 < 205"
            ),
            {"at": NOW - dt.timedelta(days=3), "kind": visited},
        )
    with database.session() as session:
        session.execute(sa.text("ANALYZE contacts"))
        sampling.make(session, clock.machine_now(), SAMPLED)
    yield database
    forget()


def numbered(*lines):
    return {"lines": [{**line, "id": f"l{n}"} for n, line in enumerate(lines)]}


def seen(database, lines, **how):
    with clock.at(NOW), database.session() as session:
        words = dictionary(session)
        return looking.look(Moment(session, words, NOW, ZONE), d.parse(lines, words), **how)


def test_the_sample_is_of_the_wanted_size_and_of_the_same_people_each_time(world):
    with world.session() as session:
        first = sampling.numbers(session)
        sampling.make(session, clock.machine_now(), SAMPLED)
        assert sampling.numbers(session) == first
        assert abs(len(first) - SAMPLED) < 0.1 * SAMPLED
        held = session.execute(sa.text("SELECT count(*) FROM sample.events")).scalar_one()
        assert (
            held
            == session.execute(
                sa.text(
                    "SELECT count(*) FROM events WHERE contact_id IN (SELECT id FROM "
                    "sample.contacts)"
                )
            ).scalar_one()
        )


def test_what_is_not_kept_is_estimated_and_then_exact(world):
    lines = numbered(TOWN, VISITED)
    guessed = seen(world, lines, estimate=True)
    exact = seen(world, lines)
    assert guessed.sample and not guessed.settled and exact.sample is None and exact.settled
    low, high = guessed.between
    assert low <= exact.sieve.size <= high and exact.sieve.size not in (low, high)
    assert abs(guessed.sieve.everyone - PEOPLE) < 5 and guessed.sieve.steps[
        0
    ].kept == pytest.approx(exact.sieve.steps[0].kept, rel=0.15)
    assert guessed.reach["email"]["go"] == pytest.approx(exact.reach["email"]["go"], rel=0.3)
    # What was kept meanwhile is simply there, also for another process.
    forget()
    again = seen(world, lines, estimate=True)
    assert (
        again.sample is None and again.sieve.size == exact.sieve.size and again.as_of == exact.as_of
    )


def test_only_the_line_that_is_new_is_estimated(world, monkeypatch):
    seen(world, numbered(TOWN))
    asked = []
    monkeypatch.setattr(
        looking,
        "one_pass",
        lambda connection, predicates, values: (
            asked.append(predicates) or real(connection, predicates, values)
        ),
    )
    guessed = seen(world, numbered(TOWN, VISITED), most_old=sets.STALE, estimate=True)
    assert (
        guessed.sample
        and len(asked) == 1
        and len(asked[0]) == 2
        and asked[0][0] == "TRUE"
        and "events" in asked[0][1]
    )


real = looking.one_pass


def test_the_truth_lies_in_the_range_for_many_definitions(world):
    luck, inside, tries = random.Random(7), 0, 60
    for number in range(tries):
        letter = luck.choice("123456789")
        lines = numbered(
            *luck.sample(
                [
                    TOWN,
                    VISITED,
                    {"kind": "field", "field": "first_name", "op": "contains", "value": letter},
                    {"kind": "share", "percent": luck.choice([1, 30, 90]), "salt": str(number)},
                ],
                luck.choice([1, 2, 3]),
            )
        )
        forget()
        with world.session() as session:
            session.execute(sa.text("DELETE FROM kept_sets"))
        low, high = seen(world, lines, estimate=True).between
        inside += low <= seen(world, lines).sieve.size <= high
    assert inside >= 0.95 * tries - 1


def test_people_of_one_company_cannot_be_told_from_a_sample(world):
    with pytest.raises(looking.NoEstimate):
        seen(world, numbered(COLLEAGUES), estimate=True)
    assert seen(world, numbered(COLLEAGUES)).sieve.size == 0


def test_without_a_sample_nothing_is_estimated(world):
    with world.session() as session:
        session.execute(sa.text("DELETE FROM sample.made"))
    with pytest.raises(looking.NoEstimate):
        seen(world, numbered(TOWN), estimate=True)


def renewed(database):
    with clock.at(NOW), database.session() as session:
        abouts = list(session.scalars(sa.text("SELECT about FROM kept_sets")))
        return looking.renew(Moment(session, dictionary(session), NOW, ZONE), abouts)


def flushed(database):
    """The database counts changes at the end of a transaction, at most once a second: now."""
    with database.session() as session:
        session.execute(sa.text("SELECT pg_stat_force_next_flush()"))


def test_what_nothing_touched_is_not_worked_out_again(world):
    flushed(world)
    before = seen(world, numbered(TOWN, VISITED))
    assert renewed(world) == 0
    with clock.at(NOW), world.session() as session:
        session.execute(
            sa.text(
                "INSERT INTO events (contact_id, at, kind_id) SELECT min(id), :at, 1 FROM contacts"
            ),
            {"at": NOW},
        )
        session.execute(sa.text("SELECT pg_stat_force_next_flush()"))
    assert renewed(world) == 1, "only the line on events"
    with clock.at(NOW), world.session() as session:
        add(session, NOW, "new@post.example", town="Tarn")
        session.execute(sa.text("SELECT pg_stat_force_next_flush()"))
    assert renewed(world) >= 3, "everything reads the contacts"
    forget()
    assert (
        seen(world, numbered(TOWN, VISITED), most_old=sets.STALE, estimate=True).sieve.steps[0].kept
        == before.sieve.steps[0].kept + 1
    )


def test_where_nobody_has_looked_there_is_nothing_to_renew(world):
    assert renewed(world) == 0


def test_what_is_due_is_what_was_looked_at_and_is_old(world):
    seen(world, numbered(TOWN))
    now = clock.machine_now()
    with world.session() as session:
        day = NOW.astimezone(ZONE).date()
        assert sets.due(session, day, now) == []
        late = now + dt.timedelta(minutes=5)
        assert {a["what"] for a in sets.due(session, day, late)} == {"everyone", "line", "reach"}
        # A new day asks the same again; what nobody has asked for in two days is gone.
        assert len(sets.due(session, day + dt.timedelta(days=1), late)) == len(
            sets.due(session, day, late)
        )
        assert sets.due(session, day, now + dt.timedelta(days=3)) == []


def test_who_is_erased_is_in_no_sample(world):
    with clock.at(NOW), world.session() as session:
        number = sampling.numbers(session)[0]
        wholly.erase(session, IDA, NOW, number)
        assert number not in sampling.numbers(session)
    with clock.at(NOW), world.session() as session, pytest.raises(NotFound):
        wholly.erase(session, IDA, NOW, number)


def test_the_page_shows_the_estimate_at_once_and_asks_for_the_exact_number(world, web):
    with clock.at(NOW), world.session() as session:
        made = Segment(
            name="Of Tarn",
            version=1,
            definition={"format": 1, **numbered(TOWN, VISITED)},
            created_at=NOW,
            changed_at=NOW,
            changed_by="Ida",
        )
        session.add(made)
        session.flush()
        ident = made.id
    first = web.get(f"/segments/{ident}")
    assert (
        first.status_code == 200 and "drawn by chance" in first.text and "data-more" in first.text
    )
    exact = web.post(
        "/segments/look", json={"definition": numbered(TOWN, VISITED), "exact": "a1b2c3d4e5f6"}
    ).json["parts"]["margin"]
    assert "drawn by chance" not in exact and "data-more" not in exact
    with world.session() as session:
        true = session.execute(
            sa.text(
                "SELECT count(*) FROM contacts c WHERE town = 'Tarn' AND id IN (SELECT "
                "contact_id FROM events)"
            )
        ).scalar_one()
    assert f"data-size>{true}</span>" in exact.replace(",", "")


def test_a_page_that_cannot_be_estimated_comes_later(world, web):
    with clock.at(NOW), world.session() as session:
        made = Segment(
            name="Works with Tarn",
            version=1,
            definition={"format": 1, **numbered(COLLEAGUES)},
            created_at=NOW,
            changed_at=NOW,
            changed_by="Ida",
        )
        session.add(made)
        session.flush()
        ident = made.id
    assert 'id="later"' in web.get(f"/segments/{ident}").text
    assert web.get(f"/segments/{ident}", headers={"X-Later": "a1b2c3d4e5f6"}).json == {
        "ready": True
    }
    assert "data-size>0</span>" in web.get(f"/segments/{ident}").text
