"""Likely duplicates: found, merged with their history, parted again; and the dictionary of
fields."""

import datetime as dt

import pytest
import sqlalchemy as sa

from meadowrun.base import signing
from meadowrun.base.errors import Conflict
from meadowrun.people import actions as people
from meadowrun.people import dictionary, duplicates, keeping, queries
from meadowrun.people.models import Contact, Field
from meadowrun.people.queries import dictionary as words_of
from meadowrun.segments import actions as segments
from meadowrun.segments.models import Segment
from meadowrun.tracking import actions as tracking
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.web import words
from tests.store.work import delivered, dispatched, number_of, reacted


def everything(session):
    """Every row that a merge may touch, without what only says when."""
    found = {}
    for table in (
        "contacts",
        "events",
        "reactions",
        "deliveries",
        "list_members",
        "consents",
        "consent_changes",
        "push_devices",
        "short_codes",
        "in_app_places",
    ):
        rows = (
            session.execute(sa.text(f"SELECT to_jsonb(t) - 'updated_at' FROM {table} t"))
            .scalars()
            .all()
        )
        found[table] = sorted(map(str, rows))
    return found


@pytest.fixture
def twins(database):
    """Ann stands there twice: on paper and on the web; both got send 1, only the second send 2."""
    with database.session() as session:
        people.add_field(session, IDA, NOW, "contact", "tier", "choice", ["Single", "Patron"])
        ids = kinds(session)
        one = add(
            session,
            NOW,
            "ann.lee@post.example",
            True,
            first_name="Ann",
            last_name="Lee",
            town="Farrow",
            tier="Single",
            phone="+441632960001",
        )
        two = add(
            session,
            NOW,
            "annlee+web@post.example",
            False,
            first_name="Ann",
            last_name="Lee",
            town="farrow",
            tier="Patron",
            reference="R7",
            language="en",
        )
        other = add(
            session, NOW, "bo@post.example", True, first_name="Bo", last_name="Lee", town="Farrow"
        )
        two.created_at = NOW - dt.timedelta(days=9)
        people.set_consent(session, NOW, two.id, 5, True, "web")
        keeping.make_list(session, IDA, NOW, "Both", "by hand", [one.id, two.id])
        keeping.make_list(session, IDA, NOW, "Second", "by hand", [two.id, other.id])
        for who, moment in ((one, NOW), (two, NOW), (two, NOW), (two, NOW - dt.timedelta(days=40))):
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "jsonb_build_object('amount', 8))"
                ),
                {"c": who.id, "at": moment, "k": ids["visited"]},
            )
        for place, whom in enumerate(((one, two), (two,))):
            send = ready_send(session, NOW, {"in": [], "out": []})
            send.state = "done"
            made = dispatched(session, send, NOW + dt.timedelta(minutes=place))
            for who in whom:
                number = delivered(session, send, who.id)
                reacted(session, send, who.id, "opened", NOW)
                session.execute(
                    sa.text(
                        "INSERT INTO in_app_places (contact_id, dispatch_id, delivery, laid_at) "
                        "VALUES (:c, :d, :n, :at)"
                    ),
                    {"c": who.id, "d": made.id, "n": number, "at": NOW},
                )
            made.size, made.sealed = len(whom), True
            session.flush()
        tracking.subscribe_device(
            session, NOW, two.id, {"system": "ios", "token": "a-phone-of-ann"}
        )
        session.execute(
            sa.text(
                "INSERT INTO short_codes (code, delivery, contact_id, at) VALUES ('abcdefgh', "
                ":n, :c, :at)"
            ),
            {"c": two.id, "n": number, "at": NOW},
        )
        return one.id, two.id, other.id


def test_pairs_and_their_reasons(database, twins):
    one, two, _ = twins
    with database.session() as session:
        (pair,), _ = duplicates.candidates(session, NOW)
        assert (pair.first.id, pair.second.id) == (one, two)
        assert pair.why == ("nearly the same address", "the same name and town")


def test_merged_with_history_and_parted_to_the_last_row(database, twins):
    one, two, _ = twins
    with database.session() as session:
        before = everything(session)
    with database.session() as session:
        done = duplicates.merge(session, IDA, NOW, one, two, {"tier"})
        merge_id = done.id
    with database.session() as session:
        kept = session.get_one(Contact, one)
        assert session.get(Contact, two) is None
        assert (kept.email, kept.attributes["tier"], kept.reference, kept.language) == (
            "ann.lee@post.example",
            "Patron",
            "R7",
            "en",
        )
        assert kept.created_at == NOW - dt.timedelta(days=9)
        counts = {
            t: session.execute(
                sa.text(f"SELECT count(*) FROM {t} WHERE contact_id = :c"), {"c": one}
            ).scalar()
            for t in ("events", "deliveries", "reactions", "list_members")
        }
        assert counts == {"events": 4, "deliveries": 2, "reactions": 3, "list_members": 2}
        for table, rows in (("push_devices", 1), ("short_codes", 1), ("in_app_places", 2)):
            assert (
                session.execute(
                    sa.text(f"SELECT count(*) FROM {table} WHERE contact_id = :c"), {"c": one}
                ).scalar()
                == rows
            ), table
        # The no stays; the yes to a topic only the other gave comes over.
        said = dict(
            session.execute(
                sa.text(
                    "SELECT topic_id, agreed FROM consents WHERE contact_id = :c AND channel = "
                    "'email'"
                ),
                {"c": one},
            ).all()
        )
        assert said == {0: False, 5: True}
        # Both had the first send: its own count stays true.
        assert (
            session.execute(
                sa.text(
                    "SELECT count(*) FROM deliveries d JOIN sends s USING (dispatch_id) WHERE "
                    "s.id = 1"
                )
            ).scalar()
            == 2
        )
    with database.session() as session:
        duplicates.undo(session, IDA, NOW, merge_id)
    with database.session() as session:
        assert everything(session) == before


def test_what_was_sent_to_the_one_that_went_still_leads_and_still_lets_go(
    client, database, settings, twins
):
    """Tokens in mails name the record that went: links, preferences and the way out find who lives
    on."""
    one, two, _ = twins
    numbers = [number_of(database, send, two) for send in (1, 2)]
    with database.session() as session:
        people.set_consent(session, NOW, two, 0, True, "asked again")
        session.execute(sa.text("UPDATE consents SET agreed = true"))
        duplicates.merge(session, IDA, NOW, one, two, set())
    for sent in numbers:
        assert (
            client.get(f"/p/{signing.make(settings.secret, 'choose', sent, two)}").status_code
            == 200
        )
        assert (
            client.get(
                f"/o/{signing.make(settings.secret, 'open', sent, two)}",
                headers={"User-Agent": "A reader"},
            ).status_code
            == 200
        )
    assert (
        client.post(f"/u/{signing.make(settings.secret, 'leave', numbers[1], two)}").status_code
        == 200
    )
    with database.session() as session:
        assert (
            session.execute(
                sa.text(
                    "SELECT agreed FROM consents WHERE contact_id = :c AND topic_id = 0 AND "
                    "channel = 'email'"
                ),
                {"c": one},
            ).scalar()
            is False
        )
        said = (
            session.execute(
                sa.text(
                    "SELECT contact_id FROM reactions WHERE delivery = :n AND kind = 'unsubscribed'"
                ),
                {"n": numbers[1]},
            )
            .scalars()
            .all()
        )
        assert said == [one]
        duplicates.merge(session, IDA, NOW, add(session, NOW, "third@post.example").id, one, set())
        assert (
            queries.living(session, two).email_key
            == queries.living(session, one).email_key
            == "third@post.example"
        )
        assert queries.living(session, 999) is None


def test_too_late_or_merged_again(database, twins):
    one, two, other = twins
    with database.session() as session:
        first = duplicates.merge(session, IDA, NOW, one, two, set()).id
        duplicates.merge(session, IDA, NOW, one, other, set())
        with pytest.raises(Conflict, match="merged with another since"):
            duplicates.undo(session, IDA, NOW, first)
        with pytest.raises(Conflict, match="no longer"):
            duplicates.undo(session, IDA, NOW + dt.timedelta(days=31), first + 1)


def test_on_its_pages(web, twins, database, still):
    one, two, _ = twins
    assert "nearly the same address, the same name and town" in words(
        web.get("/people/duplicates").text
    )
    shown = words(web.get(f"/people/duplicates/{one}/{two}").text)
    assert "Ann Lee stays" in shown and "Patron" in shown and "3 events, 2 emails" in shown
    assert "All email" in shown
    assert (
        web.post(
            f"/people/duplicates/{one}/{two}", data={"keep": two, "email": one, "tier": two}
        ).location
        == f"/people/{two}"
    )
    with database.session() as session:
        assert session.get_one(Contact, two).email == "ann.lee@post.example"
    assert "Recently merged" in words(web.get("/people/duplicates").text)
    assert web.post("/people/duplicates/undo/1").location == f"/people/{one}"
    assert web.get(f"/people/duplicates/{one}/{one}").status_code == 422


class TestDictionary:
    @pytest.fixture
    def states(self, database):
        """“State” and “State code” hold the same for some people; a segment uses the second."""
        with database.session() as session:
            for label in ("State", "State code", "Score name"):
                people.add_field(session, IDA, NOW, "contact", label, "text", [])
            for n, (a, b) in enumerate(
                [("North", None), (None, "South"), ("North", "North"), (None, None)]
            ):
                add(session, NOW, f"p{n}@post.example", first_name=f"P{n}", state=a, state_code=b)
            segments.save(
                session,
                IDA,
                NOW,
                words_of(session),
                "Southerners",
                {
                    "lines": [
                        {
                            "id": "g",
                            "kind": "group",
                            "match": "any",
                            "lines": [
                                {
                                    "id": "a",
                                    "kind": "field",
                                    "field": "state_code",
                                    "op": "is",
                                    "value": ["South"],
                                }
                            ],
                        }
                    ]
                },
            )

    def field(self, session, key):
        return session.scalar(sa.select(Field).where(Field.key == key))

    def test_what_it_says_of_a_field(self, web, states, database):
        with database.session() as session:
            entry = dictionary.entry(session, self.field(session, "state_code"))
            assert (entry.filled, entry.of, entry.common) == (2, 4, [("North", 1), ("South", 1)])
            assert [f.label for f in entry.duplicates] == ["State"] and entry.used == [
                "the segment “Southerners”"
            ]
        shown = words(web.get("/people/fields/2").text)
        assert "2 of 4 have a value, 50.0%" in shown and "Possible duplicates State" in shown

    def test_merging_moves_values_and_lines(self, web, states, database):
        assert web.post("/people/fields/2/merge", data={"into": "1"}).location == "/people/fields/1"
        with database.session() as session:
            assert [
                c.attributes.get("state")
                for c in session.scalars(sa.select(Contact).order_by(Contact.id))
            ] == ["North", "South", "North", None]
            assert (
                session.get_one(Segment, 1).definition["lines"][0]["lines"][0]["field"] == "state"
            )
            assert self.field(session, "state_code") is None
        assert "P1" in words(web.get("/segments/1/people").text)

    @pytest.mark.parametrize(
        ("wins", "held"),
        [("kept", ["N", "South", "North", None]), ("gone", ["S", "South", "North", None])],
    )
    def test_of_different_values_somebody_says_which_counts(
        self, web, states, database, wins, held
    ):
        with database.session() as session:
            session.execute(
                sa.text(
                    "UPDATE contacts SET attributes = jsonb_build_object('state', 'N', "
                    "'state_code', 'S') WHERE id = 1"
                )
            )
        answer = web.post("/people/fields/2/merge", data={"into": "1"})
        assert answer.status_code == 409
        assert (
            "1 contact holds different values in both, like P0 (N, S). Say which counts."
            in words(answer.text)
        )
        assert (
            web.post("/people/fields/2/merge", data={"into": "1", "wins": "both"}).status_code
            == 422
        )
        merged = web.post(
            "/people/fields/2/merge", data={"into": "1", "wins": wins}, follow_redirects=True
        )
        assert f"Merged: {'1 value' if wins == 'kept' else '2 values'} moved here" in words(
            merged.text
        )
        with database.session() as session:
            found = session.scalars(sa.select(Contact).order_by(Contact.id)).all()
            assert [c.attributes.get("state") for c in found] == held
            assert not any("state_code" in c.attributes for c in found)

    @pytest.mark.parametrize(
        ("kind", "first", "second"),
        [("choice", "bronze", "tin"), ("choices", "bronze; gold", "tin")],
    )
    def test_merged_choices_hold_whatever_somebody_has(self, web, database, kind, first, second):
        with database.session() as session:
            for label, options in (("Tier", ["bronze", "gold"]), ("Rung", ["tin", "gold"])):
                people.add_field(session, IDA, NOW, "contact", label, kind, options)
            add(session, NOW, "a@post.example", tier=first)
            add(session, NOW, "b@post.example", rung=second)
            # As after an import from before the field had choices.
            self.field(session, "tier").options = []
        web.post("/people/fields/2/merge", data={"into": "1"})
        with database.session() as session:
            assert set(self.field(session, "tier").options) == {"bronze", "tin", "gold"}

    def test_renamed_without_breaking_and_retired(self, web, states):
        web.post("/people/fields/2/change", data={"label": "County", "meaning": "where they live"})
        assert "County" in words(web.get("/segments/1").text)
        web.post("/people/fields/2/retire")
        offered = web.post("/segments/word", json={"slot": "new"}).json["form"]
        assert "County" not in offered and "State" in offered
        assert "P1" in words(web.get("/segments/1/people").text)
        web.post("/people/fields/2/take_back")
        assert "County" in web.post("/segments/word", json={"slot": "new"}).json["form"]

    def test_a_choice_somebody_holds_stays(self, web, database):
        with database.session() as session:
            people.add_field(session, IDA, NOW, "contact", "tier", "choice", ["Single", "Patron"])
            add(session, NOW, "p@post.example", tier="Single")
        answer = web.post(
            "/people/fields/1/change", data={"label": "tier", "options": "Patron, Student"}
        )
        assert answer.status_code == 422 and "“Single” is still somebody’s value" in words(
            answer.text
        )

    def test_words_of_an_event(self, web, database):
        with database.session() as session:
            kinds(session)
        web.post(
            "/people/events/1",
            data={"did": "got a ticket", "do": "get a ticket", "meaning": "paid", "retired": "yes"},
        )
        assert "Someone got a ticket" in words(web.get("/people/events/1").text)
        assert "got a ticket" not in web.post("/segments/word", json={"slot": "new"}).json["form"]
        assert web.post("/people/events/1", data={"did": "", "do": "x"}).status_code == 422

    @pytest.mark.parametrize(
        ("one", "other", "same"),
        [
            ("State", "State code", True),
            ("birth day", "Birthday", True),
            ("town", "tower", False),
            ("renewal date", "renewal dates", True),
            ("score", "store", False),
        ],
    )
    def test_near_duplicates(self, one, other, same):
        assert dictionary.alike(one, other) is same
