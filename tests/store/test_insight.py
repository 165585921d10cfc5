"""What a set of people is like beside everyone: shares, bands, hours, parts. The figures are worked
out by hand."""

import datetime as dt
import json
import zoneinfo

import pytest
import sqlalchemy as sa
from pyroaring import BitMap

from meadowrun.base import clock
from meadowrun.people import actions as people
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import insight
from meadowrun.segments.profile import profile
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds

ZONE = zoneinfo.ZoneInfo("Europe/London")


def eighty(session):
    """Eighty people with a score of 1 to 80, born a year apart in four groups of twenty, the last
    twenty of Weir; two without."""
    for label, kind in (("score", "number"), ("joined", "date"), ("lends", "yes_no")):
        people.add_field(session, IDA, NOW, "contact", label, kind, [])
    visited = kinds(session)["visited"]
    ids = []
    for n in range(1, 81):
        values = {
            "score": n,
            "joined": f"20{10 + (n - 1) // 20}-06-01",
            "lends": "yes" if n % 2 else "no",
            "town": "Weir" if n > 60 else "Farrow",
        }
        ids.append(add(session, NOW, f"p{n}@post.example", **values).id)
        # The last twenty come in the evening, the others in the morning (London's clock); nobody
        # else did anything.
        if n > 40:
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "CAST(:d AS jsonb))"
                ),
                {
                    "c": ids[-1],
                    "k": visited,
                    "d": json.dumps({}),
                    "at": NOW.replace(hour=20 if n > 60 else 9) - dt.timedelta(days=3),
                },
            )
    add(session, NOW, "blank1@post.example")
    add(session, NOW, "blank2@post.example")
    return ids


def traits(session, members):
    found = profile(Moment(session, dictionary(session), NOW, ZONE), BitMap(members))[0].traits
    return {
        (t.about, t.value): (t.here, round(t.here_share, 3), round(t.everyone_share, 3))
        for t in found
    }


def test_a_set_is_told_by_what_is_commoner_and_rarer_in_it(database):
    with clock.at(NOW), database.session() as session:
        ids = eighty(session)
        found = traits(session, ids[60:])
        # 20 of the 82 there are. Half of them lend, as of everyone: chance, so not told.
        assert found == {
            ("town", "Weir"): (20, 1.0, 0.244),
            ("town", "Farrow"): (0, 0.0, 0.732),
            ("score", "more than 60"): (20, 1.0, 0.244),
            ("joined", "after 1 Jun 2012"): (20, 1.0, 0.244),
            ("in the last 90 days", "visited"): (20, 1.0, 0.488),
            ("does things", "in the evening, from 18"): (20, 1.0, 0.5),
            ("does things", "in the morning"): (0, 0.0, 0.5),
        }


def test_numbers_and_dates_are_told_by_quarters(database):
    with clock.at(NOW), database.session() as session:
        ids = eighty(session)
        found = traits(session, ids[20:60])
        assert found[("score", "more than 20, up to 40")] == (20, 0.5, 0.244)
        assert found[("score", "up to 20")] == (0, 0.0, 0.244)
        assert found[("joined", "after 1 Jun 2011, until 1 Jun 2012")] == (20, 0.5, 0.244)


def test_a_number_that_is_the_same_for_everyone_tells_nothing(database):
    with clock.at(NOW), database.session() as session:
        ids = eighty(session)
        session.execute(
            sa.text(
                """UPDATE contacts SET attributes = attributes || '{"score": 5}'
WHERE email_key LIKE 'p%'"""
            )
        )
        assert not [about for about in traits(session, ids[60:]) if about[0] == "score"]


@pytest.mark.parametrize(("members", "why"), [([], "nobody"), (None, "everyone")])
def test_nobody_and_everyone_are_like_nothing_in_particular(database, members, why):
    with clock.at(NOW), database.session() as session:
        eighty(session)
        everyone = session.scalars(sa.text("SELECT id FROM contacts")).all()
        assert traits(session, everyone if members is None else members) == {}, why


def test_the_parts_of_three_sets_add_up():
    a, b, c = BitMap([1, 2, 3, 4]), BitMap([3, 4, 5]), BitMap([4, 5, 6, 7, 8])
    assert insight.regions([a, b, c]) == {
        (True, False, False): 2,
        (False, True, False): 0,
        (True, True, False): 1,
        (False, False, True): 3,
        (True, False, True): 0,
        (False, True, True): 1,
        (True, True, True): 1,
    }
