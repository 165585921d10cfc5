"""Three evaluators, one answer: compiled SQL, sets per line, and plain Python as the judge."""

import datetime as dt
import json
import random
import zoneinfo

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from meadowrun.base import clock
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.judge import Happening, Person, matches
from meadowrun.people import actions as people
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions, queries
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds

ZONE = zoneinfo.ZoneInfo("Europe/London")
TODAY = dt.date(2026, 11, 23)


def build(session):
    """Forty people with blanks, leap days and odd capitals, companies with several people, some without."""
    for label, kind, options in (("tier", "choice", ["Single", "Patron"]), ("renewal", "date", []), ("score", "number", []),
                                 ("member", "yes_no", []), ("interests", "choices", ["sky", "sea", "rock"])):
        people.add_field(session, IDA, NOW, "contact", label, kind, options)
    people.add_field(session, IDA, NOW, "company", "kind", "choice", ["School", "Club"])
    ids = kinds(session)
    dice = random.Random(7)
    persons = {}
    days = ["2026-11-23", "2026-11-24", "2027-01-01", "2024-02-29", "1990-12-31", "2026-11-22", "2026-10-25"]
    for n in range(40):
        given = {"town": dice.choice(["Farrow", "Tarnside", "FARROW", None]), "first_name": dice.choice(["Zoë", "Ann_", "50%", None]),
                 "tier": dice.choice(["Single", "Patron", None]), "renewal": dice.choice([*days, None]),
                 "score": dice.choice([0, 1, 2.5, 100, None]), "member": dice.choice(["yes", "no", None]),
                 "interests": dice.choice(["sky", "sky;sea", "rock", None]), "company": dice.choice(["School One", "Club Two", None])}
        contact = add(session, NOW, f"p{n}@post.example", **given)
        if contact.company_id:
            kind = {"School One": "School", "Club Two": "Club"}[given["company"]]
            session.execute(sa.text("UPDATE companies SET attributes = jsonb_build_object('kind', CAST(:k AS text)) WHERE id = :id"),
                            {"k": kind, "id": contact.company_id})
        happened = []
        for _ in range(dice.randrange(5)):
            at = NOW - dt.timedelta(days=dice.choice([0, 1, 29, 30, 31, 90]), hours=dice.randrange(24))
            kind = dice.choice(list(ids))
            details = dice.choice([{"amount": 24}, {"amount": 8, "night": "Moon night"}, {}])
            session.execute(sa.text("INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, CAST(:d AS jsonb))"),
                            {"c": contact.id, "at": at, "k": ids[kind], "d": json.dumps(details)})
            happened.append(Happening(kind, at, details))
        values = {"town": contact.town, "first_name": contact.first_name, "email": contact.email, **contact.attributes,
                  "company.name": given["company"],
                  "company.kind": {"School One": "School", "Club Two": "Club", None: None}[given["company"]]}
        persons[contact.id] = Person(values, tuple(happened))
    return persons


@pytest.fixture
def people_and_words(database):
    with clock.at(NOW), database.session() as session:
        persons = build(session)
        yield session, persons, dictionary(session)


days = st.sampled_from(["2026-11-22", "2026-11-23", "2027-01-01", "2024-02-29"])
field_lines = st.one_of(
    st.tuples(st.just("town"), st.sampled_from(["is", "is_not"]), st.lists(st.sampled_from(["farrow", "Tarnside"]), min_size=1)),
    st.tuples(st.sampled_from(["first_name", "email"]), st.sampled_from(["contains", "not_contains", "begins"]),
              st.sampled_from(["zoë", "_", "%", "p1", "50%"])),
    st.tuples(st.just("tier"), st.sampled_from(["is", "is_not"]), st.lists(st.sampled_from(["Single", "Patron"]), min_size=1)),
    st.tuples(st.just("score"), st.sampled_from(["is", "at_least", "at_most"]), st.sampled_from([0, 1, 2.5, 99])),
    st.tuples(st.just("score"), st.just("between"), st.just([1, 50])),
    st.tuples(st.just("renewal"), st.sampled_from(["in_next", "in_last", "yearly_next"]), st.sampled_from([0, 1, 40, 400])),
    st.tuples(st.just("renewal"), st.sampled_from(["on", "before", "after"]), days),
    st.tuples(st.just("renewal"), st.just("between"), st.just(["2024-02-29", "2026-11-23"])),
    st.tuples(st.just("member"), st.sampled_from(["yes", "no"]), st.none()),
    st.tuples(st.just("interests"), st.sampled_from(["has", "has_not"]), st.lists(st.sampled_from(["sky", "sea"]), min_size=1)),
    st.tuples(st.just("company.kind"), st.sampled_from(["is", "is_not"]), st.just(["School"])),
    st.tuples(st.sampled_from(["town", "tier", "score", "renewal", "member", "interests", "company.kind", "company.name"]),
              st.sampled_from(["blank", "not_blank"]), st.none()),
).map(lambda t: {"kind": "field", "field": t[0], "op": t[1], "value": t[2]})
event_lines = st.fixed_dictionaries({
    "kind": st.just("event"), "event": st.sampled_from(["ticket_bought", "visited"]), "did": st.booleans(),
    "times": st.sampled_from([{"op": "at_least", "n": 1}, {"op": "at_least", "n": 2}, {"op": "exactly", "n": 1},
                              {"op": "exactly", "n": 0}, {"op": "at_most", "n": 1}]),
    "span": st.sampled_from([{}, {"last": 0}, {"last": 30}, {"from": "2026-10-01", "to": "2026-11-22"}, {"from": "2026-11-23"}]),
    "where": st.sampled_from([[], [{"detail": "amount", "op": "at_least", "value": 20}],
                              [{"detail": "night", "op": "is", "value": ["moon night"]}]])})
nodes = st.recursive(st.one_of(field_lines, event_lines), lambda inner: st.fixed_dictionaries({
    "kind": st.just("group"), "match": st.sampled_from(["all", "any", "none"]), "lines": st.lists(inner, max_size=3)}), max_leaves=5)


def numbered(lines, off=()):
    counter = iter(range(1000))

    def walk(node):
        made = {**node, "id": f"n{next(counter)}"}
        if "lines" in node:
            made["lines"] = [walk(n) for n in node["lines"]]
        return made

    return {"lines": [walk(n) for n in lines]}


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(nodes, max_size=4))
def test_three_evaluators_agree(people_and_words, lines):
    session, persons, words = people_and_words
    definition = d.parse(numbered(lines), words)
    expected = {ident for ident, person in persons.items() if matches(definition, person, words, NOW, ZONE)}
    looked = queries.look(session, definition, words, NOW, ZONE)
    assert set(looked.sieve.members) == expected
    assert queries.count(session, definition, words, NOW, ZONE) == len(expected)
    assert sum(looked.reach.values()) == len(expected)


def one(**line):
    return {"lines": [{"id": "x", **line}]}


@pytest.mark.parametrize(("line", "expected"), [
    ({"kind": "field", "field": "town", "op": "is", "value": ["Tarnside"]}, {2}),
    ({"kind": "field", "field": "town", "op": "is_not", "value": ["Tarnside"]}, {1}),
    ({"kind": "field", "field": "town", "op": "blank"}, {3}),
    ({"kind": "field", "field": "company.name", "op": "contains", "value": "tarn"}, {1, 2}),
    ({"kind": "event", "event": "visited", "times": {"op": "at_least", "n": 2}, "span": {"last": 1}}, {2}),
    ({"kind": "event", "event": "visited", "did": False}, {1, 3})])
def test_by_hand_on_three_people(database, line, expected):
    """Ann of Farrow and Ben of Tarnside share a company; Cleo has no town. Ben visited today and late yesterday evening."""
    with clock.at(NOW), database.session() as session:
        ids = kinds(session)
        found = [add(session, NOW, f"{n}@a.example", first_name=n, town=t, company=c).id for n, t, c in (
            ("Ann", "farrow", "Tarn School"), ("Ben", "TARNSIDE", "Tarn School"), ("Cleo", None, None))]
        for at in (NOW, dt.datetime(2026, 11, 22, 0, 5, tzinfo=dt.UTC), dt.datetime(2026, 11, 21, 23, 55, tzinfo=dt.UTC)):
            session.execute(sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
                            {"c": found[1], "at": at, "k": ids["visited"]})
        words = dictionary(session)
        looked = queries.look(session, d.parse(one(**line), words), words, NOW, ZONE)
        assert {found.index(i) + 1 for i in looked.sieve.members} == expected


class TestSaving:
    LINES = {"lines": [{"id": "a", "kind": "field", "field": "town", "op": "not_blank"}]}

    def test_every_version_is_kept_and_nobody_overwrites_anybody(self, database, still):
        with database.session() as session:
            words = dictionary(session)
            saved = actions.save(session, IDA, NOW, words, "With a town", self.LINES)
            actions.save(session, IDA, NOW, words, "With a town", {"lines": []}, saved, based_on=1)
            with pytest.raises(Conflict, match="saved this segment while you were editing"):
                actions.save(session, IDA, NOW, words, "With a town", self.LINES, saved, based_on=1)
            assert [v.version for v in queries.versions(session, saved.id)] == [2, 1]
            assert queries.versions(session, saved.id)[1].definition["lines"][0]["field"] == "town"

    def test_names_are_needed_and_single(self, database, still):
        with database.session() as session:
            words = dictionary(session)
            actions.save(session, IDA, NOW, words, "One", self.LINES)
            with pytest.raises(Conflict, match="called “One” already"):
                actions.save(session, IDA, NOW, words, " One ", self.LINES)
            with pytest.raises(Invalid, match="Give the segment a name"):
                actions.save(session, IDA, NOW, words, " ", self.LINES)

    def test_a_used_one_is_not_deleted(self, database, still):
        with database.session() as session:
            saved = actions.save(session, IDA, NOW, dictionary(session), "One", self.LINES)
            with pytest.raises(Conflict, match="is used by the send “Letter”"):
                actions.delete(session, IDA, NOW, saved, ["the send “Letter”"])
