"""Scores in the database: everyone's points equal those of the plain reading, on a random world;
kept fresh, asked for, given by hand."""

import datetime as dt

import pytest
import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Conflict, Invalid
from meadowrun.core import scores as rules_of
from meadowrun.core.scores import Given
from meadowrun.people import duplicates, wholly
from meadowrun.people.moment import Moment
from meadowrun.people.queries import dictionary
from meadowrun.scores import actions, queries, working
from meadowrun.scores.models import ContactScore, Score, ScorePoints
from meadowrun.segments import actions as segments
from meadowrun.segments import why
from tests.conftest import NOW
from tests.luck import tries
from tests.store.conditions import numbered, without_scores
from tests.store.people import IDA, add, kinds
from tests.store.small_world import ZONE
from tests.store.web import words

counted = st.one_of(
    st.fixed_dictionaries(
        {
            "kind": st.just("event"),
            "event": st.sampled_from(["ticket_bought", "visited"]),
            "span": st.sampled_from(
                [{}, {"last": 1}, {"last": 30}, {"from": "2026-10-24", "to": "2026-11-22"}]
            ),
        }
    ),
    st.fixed_dictionaries(
        {
            "kind": st.just("mail"),
            "what": st.sampled_from(["sent", "opened", "clicked", "converted"]),
            "of": st.sampled_from([{}, {"tag": "night"}, {"channel": "sms"}]),
        }
    ),
)
rules = st.lists(
    st.one_of(
        st.fixed_dictionaries(
            {
                "points": st.sampled_from([5, -2, 0.5]),
                "each": st.just(True),
                "most": st.sampled_from([None, 1, 2]),
                "lines": counted.map(lambda line: [line]),
            }
        ),
        st.fixed_dictionaries(
            {
                "points": st.sampled_from([10, -3]),
                "each": st.just(False),
                "lines": st.lists(without_scores, min_size=1, max_size=2),
            }
        ),
    ),
    max_size=3,
)


@tries(60)
@given(rules, st.sampled_from([None, 1, 60]))
def test_everyones_points_equal_the_plain_reading(people_and_words, chosen, half_life):
    session, persons, known = people_and_words
    taken = rules_of.take_rules([rule | numbered(rule["lines"]) for rule in chosen], known)
    session.execute(sa.text("DELETE FROM scores"))
    score = Score(
        name="Interest",
        rules=rules_of.dump_rules(taken),
        half_life=half_life,
        version=1,
        changed_at=NOW,
        changed_by="Ida",
    )
    session.add(score)
    session.flush()
    given_to = sorted(persons)[:2]
    for number, contact in enumerate(given_to):
        session.add(
            ScorePoints(
                contact_id=contact,
                score_id=score.id,
                points=7.0,
                at=NOW - dt.timedelta(days=60 * number),
                by="Ida",
                why="x",
            )
        )
    session.flush()
    working.work_out(Moment(session, known, NOW, ZONE), score)
    kept = dict(
        session.execute(sa.select(ContactScore.contact_id, ContactScore.points)).tuples().all()
    )
    by = why.judge(Moment(session, known, NOW, ZONE))
    for contact, one in persons.items():
        hand = (
            [Given(7.0, NOW - dt.timedelta(days=60 * given_to.index(contact)))]
            if contact in given_to
            else []
        )
        expected = sum(points for points, _ in rules_of.parts(taken, hand, one, by, half_life))
        assert kept.get(contact, 0) == pytest.approx(expected, abs=0.0501), contact


VISIT = {"id": "v", "kind": "event", "event": "visited"}
RULES = [
    {"points": 5, "each": True, "lines": [VISIT]},
    {
        "points": 15,
        "lines": [{"id": "t", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]}],
    },
]


@pytest.fixture
def world(database, job_context):
    """Ann of Farrow visited today and 60 days ago, Bo visited today, Cy never; the score halves in
    60 days: 22.5, 5 and none."""
    with clock.at(NOW), database.session() as session:
        people = {
            name: add(session, NOW, f"{name.lower()}@post.example", first_name=name, town=town).id
            for name, town in (("Ann", "Farrow"), ("Bo", "Tarnside"), ("Cy", "Tarnside"))
        }
        visited = kinds(session)["visited"]
        for name, days in (("Ann", 0), ("Ann", 60), ("Bo", 0)):
            session.execute(
                sa.text("INSERT INTO events (contact_id, at, kind_id) VALUES (:c, :at, :k)"),
                {"c": people[name], "at": NOW - dt.timedelta(days=days), "k": visited},
            )
        actions.save(
            session,
            IDA,
            NOW,
            dictionary(session),
            {"name": "Interest", "half_life": 60, "rules": RULES},
        )
    with clock.at(NOW):
        jobs.run_here("scores.refresh")
    return people


def points(session):
    return dict(
        session.execute(
            sa.text(
                "SELECT c.first_name, s.points FROM contact_scores s JOIN contacts c ON c.id = "
                "s.contact_id"
            )
        )
        .tuples()
        .all()
    )


def test_kept_fresh_in_the_background(database, world):
    with database.session() as session:
        assert points(session) == {"Ann": 22.5, "Bo": 5.0}
        assert session.get_one(Score, 1).worked_out_at == NOW
    later = NOW + dt.timedelta(days=60)
    with clock.at(later):
        jobs.run_here("scores.refresh")
    with database.session() as session:
        assert points(session) == {"Ann": 18.8, "Bo": 2.5}, "15 + 2.5 + 1.25, rounded to a tenth"
        assert session.get_one(Score, 1).worked_out_at == later


def test_what_takes_long_rests_longer(database, world):
    def points_at(moment):
        with clock.at(moment):
            jobs.run_here("scores.refresh")
        with database.session() as session:
            return session.get_one(Score, 1).worked_out_at

    nine, eleven = (NOW + dt.timedelta(minutes=n) for n in (9, 11))
    assert points_at(nine) == NOW and points_at(eleven) == eleven
    with database.session() as session:
        session.get_one(Score, 1).seconds = 60.0
    later = eleven + dt.timedelta(minutes=29)
    assert points_at(later) == eleven and points_at(
        later + dt.timedelta(minutes=2)
    ) == later + dt.timedelta(minutes=2)


def test_only_what_changed_is_written(database, world):
    with clock.at(NOW), database.session() as session:
        score = session.get_one(Score, 1)
        assert working.work_out(Moment(session, dictionary(session), NOW, ZONE), score) == 0
        actions.save(session, IDA, NOW, dictionary(session), {"rules": RULES[:1]}, score)
        assert working.work_out(
            Moment(session, dictionary(session), NOW, ZONE), score
        ) == 1 and points(session) == {"Ann": 7.5, "Bo": 5.0}
        actions.save(session, IDA, NOW, dictionary(session), {"rules": []}, score)
        assert (
            working.work_out(Moment(session, dictionary(session), NOW, ZONE), score) == 2
            and points(session) == {}
        )


def test_a_score_that_conditions_ask_for_stays(database, world):
    with clock.at(NOW), database.session() as session:
        score = session.get_one(Score, 1)
        segments.save(
            session,
            IDA,
            NOW,
            dictionary(session),
            "Keen",
            {"lines": [{"id": "a", "kind": "score", "score": 1, "op": "at_least", "value": 20}]},
        )
        with pytest.raises(Conflict, match="the segment “Keen”"):
            actions.delete(session, IDA, NOW, score)
        with pytest.raises(Conflict, match="changed “Interest” meanwhile"):
            actions.save(
                session, IDA, NOW, dictionary(session), {"half_life": None}, score, based_on=0
            )
        for given_, says in (
            ({"name": " "}, "name you will recognise"),
            ({"half_life": 0}, "1 to 3,650 days"),
            ({"half_life": "x"}, "1 to 3,650"),
            ({"rules": [{}]}, "Rule 1: "),
        ):
            with pytest.raises(Invalid, match=says):
                actions.save(session, IDA, NOW, dictionary(session), given_, score)


def test_one_whose_rule_names_what_is_gone_says_so_and_keeps_what_there_was(database, world, web):
    with clock.at(NOW), database.session() as session:
        session.execute(
            sa.text(
                "UPDATE scores SET worked_out_at = NULL, rules = jsonb_set(rules, "
                "'{0,lines,0,event}', '\"flew\"')"
            )
        )
    with clock.at(NOW):
        jobs.run_here("scores.refresh")
    with database.session() as session:
        assert points(session) == {"Ann": 22.5, "Bo": 5.0}
    shown = words(web.get("/scores/1").text)
    assert (
        "Rule 1: There is no kind of event called “flew”" in shown
        and "keeps the points they have" in shown
    )
    assert web.get(f"/people/{world['Ann']}").status_code == 200


def test_records_made_one_and_taken_along(database, world):
    with clock.at(NOW), database.session() as session:
        actions.give(
            session,
            IDA,
            NOW,
            session.get_one(Score, 1),
            session.get_one(duplicates.Contact, world["Cy"]),
            3,
            "rang",
        )
        duplicates.merge(session, IDA, NOW, world["Ann"], world["Cy"], set())
        working.work_out(Moment(session, dictionary(session), NOW, ZONE), session.get_one(Score, 1))
        assert points(session) == {"Ann": 25.5, "Bo": 5.0}
        assert [p["why"] for p in wholly.everything(session, world["Ann"])["points_given"]] == [
            "rang"
        ]
        assert wholly.everything(session, world["Ann"])["scores"] == [
            {"name": "Interest", "points": 25.5}
        ]
        wholly.erase(session, IDA, NOW, world["Ann"])
        assert points(session) == {"Bo": 5.0}


class TestPages:
    def test_from_nothing_to_points(self, web, world, database):
        begun = web.post(
            "/scores",
            data={"name": "Giving", "meaning": "Gifts", "half_life": ""},
            follow_redirects=True,
        )
        assert "Never fades" in words(begun.text) and "No rule yet" in begun.text
        with clock.at(NOW):
            answer = web.post("/scores/2/lines", json={"lines": [VISIT], "version": 1})
        assert answer.json == {"to": "/scores/2"}
        assert (
            web.post(
                "/scores/2/rules/0",
                data={"version": "2", "points": "+7", "each": "yes", "most": "1"},
            ).status_code
            == 303
        )
        with clock.at(NOW):
            jobs.run_here("scores.refresh")
        shown = words(web.get("/scores/2").text)
        assert "2 people have points" in shown and "who visited" in shown
        with database.session() as session:
            assert session.get_one(Score, 2).rules == [
                {
                    "points": 7,
                    "each": True,
                    "most": 1,
                    "lines": [
                        {
                            **VISIT,
                            "did": True,
                            "times": {"op": "at_least", "n": 1},
                            "span": {},
                            "where": [],
                        }
                    ],
                }
            ]
        said = words(
            web.post(
                "/scores/2/rules/0", data={"version": "2", "points": "8"}, follow_redirects=True
            ).text
        )
        assert "changed “Giving” meanwhile" in said
        assert "Points: " in words(
            web.post(
                "/scores/2/rules/0", data={"version": "3", "points": "many"}, follow_redirects=True
            ).text
        )
        assert "no longer there" in words(
            web.post(
                "/scores/2/rules/4", data={"version": "3", "points": "1"}, follow_redirects=True
            ).text
        )
        assert web.post("/scores/2/lines", json={"lines": [], "version": 3}).status_code == 422
        assert (
            web.post(
                "/scores/2/lines", json={"lines": [VISIT], "place": 7, "version": 3}
            ).status_code
            == 422
        )
        web.post("/scores/2/rules/0", data={"version": "3", "points": "7", "remove": "1"})
        web.post(
            "/scores/2", data={"version": "4", "name": "Gifts", "meaning": "", "half_life": "30"}
        )
        assert "Halves every 30 days" in words(web.get("/scores/2").text)
        assert "“Gifts” was deleted" in words(
            web.post("/scores/2/delete", follow_redirects=True).text
        )

    def test_what_cannot_be_counted_each_time_counts_while_it_holds(self, web, world, database):
        web.post("/scores/1/lines", json={"lines": RULES[1]["lines"], "version": 1})
        with database.session() as session:
            assert [r["each"] for r in session.get_one(Score, 1).rules] == [True, False, False]

    def test_wrong_beginnings_keep_what_was_typed(self, web, world):
        answer = web.post(
            "/scores", data={"name": "Interest", "meaning": "Again", "half_life": "90"}
        )
        assert (
            answer.status_code == 409
            and 'value="Again"' in answer.text
            and "is a score called “Interest” already" in words(answer.text)
        )

    def test_points_by_hand_count_at_once_and_say_why(self, web, world):
        with clock.at(NOW):
            shown = words(
                web.post(
                    f"/people/{world['Cy']}/points",
                    data={"score": "1", "points": "+12,5", "why": "rang the desk"},
                    follow_redirects=True,
                ).text
            )
        assert "Interest 12.5" in shown
        assert "+12.5: rang the desk, " in shown
        told = words(web.get(f"/people/{world['Ann']}").text)
        assert "whose town is Farrow" in told and "who visited, 2 times" in told
        for form, says in (
            ({"points": "0", "why": "x"}, "at least 1"),
            ({"points": "5", "why": " "}, "Say what the points are for"),
            ({"points": "x", "why": "x"}, "Points: "),
        ):
            assert says in words(
                web.post(
                    f"/people/{world['Cy']}/points",
                    data={"score": "1", **form},
                    follow_redirects=True,
                ).text
            )


def test_the_api_reads_and_writes_scores(api, world):
    made = api("post", "/scores", {"name": "Giving", "half_life": 30, "rules": RULES})
    assert made[0] == 201 and made[1]["rules"][0]["points"] == 5
    ident = made[1]["id"]
    assert (
        api("post", "/scores", {"name": "Giving"})[0] == 409
        and api("post", "/scores", {"name": "X", "rules": [{"points": "5"}]})[0] == 422
    )
    assert api("put", f"/scores/{ident}", {"half_life": None})[1]["half_life"] is None
    listed = {s["name"]: s for s in api("get", "/scores")[1]["items"]}
    assert listed["Interest"]["people"] == 2 and listed["Giving"]["worked_out_at"] is None
    with clock.at(NOW):
        assert api(
            "post", f"/contacts/{world['Cy']}/points", {"score": 1, "points": 4, "why": "rang"}
        )[1] == {"score": "Interest", "points": 4.0}
    assert api("get", f"/contacts/{world['Cy']}")[1]["scores"] == {"Interest": 4.0}
    assert (
        api("post", f"/contacts/{world['Cy']}/points", {"score": 1, "points": "4", "why": "rang"})[
            0
        ]
        == 422
    )
    assert (
        api("delete", f"/scores/{ident}")[1] == {"deleted": ident}
        and api("delete", f"/scores/{ident}")[0] == 404
    )


def test_the_spread(database, world):
    with database.session() as session:
        found = queries.spread(session, 1, 2)
        assert (found.people, found.middle, found.upper, found.most) == (2, 5.0, 22.5, 22.5)
        assert (
            found.bands == [(5.0, 13.75, 1), (13.75, 22.5, 1)]
            and queries.spread(session, 9) is None
        )
        assert [(c.first_name, p) for c, p in queries.highest(session, 1)] == [
            ("Ann", 22.5),
            ("Bo", 5.0),
        ]
