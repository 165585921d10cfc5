"""Three evaluators, one answer: compiled SQL, sets per line, and plain Python as the judge."""

import datetime as dt

import pytest
import sqlalchemy as sa
from hypothesis import assume, given
from hypothesis import strategies as st

from meadowrun.base import clock, manifest
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core.audience import definition as d
from meadowrun.core.audience.kinds import KINDS, Kind
from meadowrun.core.guardrails.verdict import verdict
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.segments import actions, queries, why
from meadowrun.segments.condition import condition_of
from meadowrun.segments.fetching import compiler_for, id_sets
from meadowrun.segments.looking import look
from tests.conftest import NOW
from tests.luck import tries
from tests.store.conditions import STRATEGIES, nodes, numbered
from tests.store.people import IDA, add, kinds
from tests.store.small_world import ZONE


def expected_by_judge(session, persons, words, definition):
    """Who is in it by the plain evaluator."""
    judge = why.judge(Moment(session, words, NOW, ZONE))
    judge.colleagues = lambda one: [p for p in persons.values() if p.company == one.company]
    return {ident for ident, person in persons.items() if judge.matches(definition, person)}


@tries(150)
@given(st.lists(nodes, max_size=4))
def test_three_evaluators_agree(people_and_words, lines):
    session, persons, words = people_and_words
    definition = d.parse(numbered(lines), words)
    expected = expected_by_judge(session, persons, words, definition)
    looked = look(Moment(session, words, NOW, ZONE), definition)
    assert set(looked.sieve.members) == expected
    assert queries.count(Moment(session, words, NOW, ZONE), definition) == len(expected)
    assert list(looked.reach) == ["email", "sms", "push", "in_app"]
    assert all(sum(outcomes.values()) == len(expected) for outcomes in looked.reach.values())
    assert {channel: outcomes.get("go", 0) for channel, outcomes in looked.reach.items()} == {
        channel: sum(verdict(persons[ident].reach[channel]).goes for ident in expected)
        for channel in looked.reach
    }
    assert d.parse(d.dump(definition), words) == definition


def test_every_kind_of_condition_is_complete():
    """What the core knows is known to the database and the page, and is held equal above."""
    asked = {condition.key for condition in manifest.conditions()}
    assert asked == set(KINDS) == {"group", *STRATEGIES}
    for key, kind in KINDS.items():
        assert kind.key == key and set(kind.required) <= kind.members().keys()
        assert set(kind.names) <= kind.members().keys()


@pytest.mark.parametrize("kind", sorted(STRATEGIES))
def test_what_can_be_counted_has_its_moments(kind):
    """The core and the database agree which kinds happen at moments."""
    core = type(KINDS[kind]).countable is not Kind.countable
    assert core == (condition_of(kind).moments is not None)


@tries(60)
@given(st.one_of(STRATEGIES["event"], STRATEGIES["mail"]))
def test_moments_are_those_of_the_plain_evaluator(people_and_words, line):
    session, persons, words = people_and_words
    (node,) = d.parse(numbered([line]), words).lines
    assume(KINDS[node.kind].countable(node))
    judge = why.judge(Moment(session, words, NOW, ZONE))
    expected = sorted(
        (ident, at) for ident, one in persons.items() for at in judge.moments(node, one)
    )
    compiler = compiler_for(Moment(session, words, NOW, ZONE))
    query = compiler.moments(node)
    assert sorted(map(tuple, session.execute(sa.text(query), compiler.values))) == expected


def one(**line):
    return {"lines": [{"id": "x", **line}]}


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ({"kind": "field", "field": "town", "op": "is", "value": ["Tarnside"]}, {2}),
        ({"kind": "field", "field": "town", "op": "is_not", "value": ["Tarnside"]}, {1}),
        ({"kind": "field", "field": "town", "op": "blank"}, {3}),
        ({"kind": "field", "field": "company.name", "op": "contains", "value": "tarn"}, {1, 2}),
        (
            {
                "kind": "event",
                "event": "visited",
                "times": {"op": "at_least", "n": 2},
                "span": {"last": 1},
            },
            {2},
        ),
        ({"kind": "event", "event": "visited", "did": False}, {1, 3}),
    ],
)
def test_by_hand_on_three_people(database, line, expected):
    """Ann of Farrow and Ben of Tarnside share a company; Cleo has no town. Ben visited today and
    late yesterday evening."""
    with clock.at(NOW), database.session() as session:
        ids = kinds(session)
        found = [
            add(session, NOW, f"{n}@a.example", first_name=n, town=t, company=c).id
            for n, t, c in (
                ("Ann", "farrow", "Tarn School"),
                ("Ben", "TARNSIDE", "Tarn School"),
                ("Cleo", None, None),
            )
        ]
        for at in (
            NOW,
            dt.datetime(2026, 11, 22, 0, 5, tzinfo=dt.UTC),
            dt.datetime(2026, 11, 21, 23, 55, tzinfo=dt.UTC),
        ):
            session.execute(
                sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
                {"c": found[1], "at": at, "k": ids["visited"]},
            )
        words = dictionary(session)
        looked = look(Moment(session, words, NOW, ZONE), d.parse(one(**line), words))
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


def test_lines_shared_out_to_two_connections_give_what_each_gives_alone(database):
    """Also where this transaction has written what no other can see yet: then nothing is shared
    out."""
    predicates = [
        "c.town = 'Farrow'",
        "c.id IN (SELECT contact_id FROM consents WHERE agreed) IS TRUE",
        "TRUE",
        "c.email LIKE :who",
        "c.id % 3 = 0",
        "FALSE",
        "EXISTS (SELECT 1 FROM consents x WHERE x.contact_id = c.id AND x.channel = 'sms') IS TRUE",
    ]
    values = {"who": "p1%"}
    with database.session() as session:
        for n in range(40):
            add(
                session,
                NOW,
                f"p{n}@post.example",
                town="Farrow" if n % 2 else None,
                agreed=n % 5 == 0,
            )
        unseen = id_sets(session, predicates, values)
        assert len(unseen[2]) == 40, "what was only just written is there"
    with database.session() as session:
        shared = id_sets(session, predicates, values)
        assert shared == unseen == [id_sets(session, [p], values)[0] for p in predicates]
        assert [len(s) for s in shared] == [20, 8, 40, 11, 13, 0, 0]
