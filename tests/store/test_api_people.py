"""The JSON API: contacts, companies and lists; a record taken along or erased."""

import pytest
import sqlalchemy as sa

from meadowrun.people import keeping
from meadowrun.results.queries import result
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add, kinds, ready_send
from tests.store.web import words
from tests.store.work import delivered, dispatched, reacted


class TestPeople:
    def test_contacts_page_by_page_and_by_address(self, api):
        for n in range(5):
            assert (
                api("put", "/contacts", {"email": f"p{n}@post.example", "tier": "Patron"})[0] == 201
            )
        assert api("put", "/contacts", {"email": "P1@post.example", "first_name": "Ann"})[0] == 200
        first = api("get", "/contacts?limit=2")[1]
        second = api("get", f"/contacts?limit=2&after={first['after']}")[1]
        last = api("get", f"/contacts?limit=2&after={second['after']}")[1]
        assert [
            c["email"][:2].lower() for page in (first, second, last) for c in page["items"]
        ] == ["p0", "p1", "p2", "p3", "p4"]
        assert "after" not in last
        (found,) = api("post", "/contacts/find", {"email": "p1@post.example"})[1]["items"]
        assert (found["first_name"], found["tier"]) == ("Ann", "Patron")
        assert api("get", "/contacts?limit=x")[1]["where"] == "limit"

    def test_companies(self, api):
        assert (
            api("put", "/companies", {"name": "Tarn School", "pupils": "1,200"})[1]["pupils"]
            == 1200
        )
        assert api("put", "/companies", {"name": "tarn school", "pupils": 900})[1] == {
            "id": 1,
            "name": "Tarn School",
            "pupils": 900,
        }
        status, refused = api("put", "/companies", {"name": "Tarn School", "pupils": "many"})
        assert status == 422 and refused["where"] == "pupils" and "many" in refused["error"]
        assert len(api("get", "/companies")[1]["items"]) == 1

    def test_the_dictionary(self, api):
        found = api("get", "/fields")[1]
        assert {
            "ref": "tier",
            "label": "tier",
            "type": "choice",
            "options": ["Single", "Patron"],
            "meaning": "",
        } in found["fields"]

    def test_lists(self, api):
        for n in range(4):
            api("put", "/contacts", {"email": f"p{n}@post.example"})
        made = api("post", "/lists", {"name": "Guests", "contacts": [1, 2, 99]})
        assert made[0] == 201 and made[1]["people"] == 2
        assert api("post", "/lists/1/members", {"contacts": [2, 3]})[1] == {"added": 1}
        assert api("delete", "/lists/1/members", {"contacts": [1]})[1] == {"removed": 1}
        assert [c["id"] for c in api("get", "/lists/1/members")[1]["items"]] == [2, 3]
        assert api("post", "/lists", {"name": "X", "contacts": ["1"]})[1]["where"] == "contacts.0"
        assert api("get", "/lists/7/members")[0] == 404
        assert api("delete", "/lists/1")[0] == 200 and api("get", "/lists")[1] == {"items": []}

    def test_suppressions(self, api):
        assert api("put", "/suppressions", {"address": "Ann@post.example", "reason": "asked"})[
            1
        ] == {"address": "ann@post.example", "new": True}
        api("put", "/suppressions", {"address": "@rival.example", "until": "2099-01-01T00:00:00Z"})
        items = api("get", "/suppressions")[1]["items"]
        assert [(s["address"], s["until"]) for s in items] == [
            ("@rival.example", "2099-01-01T00:00:00+00:00"),
            ("ann@post.example", None),
        ]
        assert (
            api(
                "put", "/suppressions", {"address": "x@y.example", "until": "2020-01-01T00:00:00Z"}
            )[1]["where"]
            == "until"
        )
        assert api("post", "/suppressions/lift", {"address": "ann@post.example"})[0] == 200
        assert len(api("get", "/suppressions")[1]["items"]) == 1


class TestWhole:
    @pytest.fixture
    def ann(self, database):
        """Ann got a mail, clicked, and bought; her record is full."""
        with database.session() as session:
            ids = kinds(session)
            contact = add(session, NOW, "ann@post.example", first_name="Ann", town="Farrow")
            send = ready_send(session, NOW, {"in": [], "out": []})
            send.state = "done"
            dispatched(session, send, NOW)
            delivered(
                session,
                send,
                contact.id,
                at=NOW,
                address="ann@post.example",
                filled='{"contact.first_name": "Ann"}',
            )
            reacted(session, send, contact.id, "clicked", NOW, 0, note="x")
            keeping.make_list(session, IDA, NOW, "Guests", "by hand", [contact.id])
            session.execute(
                sa.text(
                    "INSERT INTO events (contact_id, at, kind_id, details) VALUES (:c, :at, :k, "
                    "CAST(:d AS jsonb))"
                ),
                {
                    "c": contact.id,
                    "at": NOW,
                    "k": ids["ticket_bought"],
                    "d": '{"amount": 24, "night": "for Ann"}',
                },
            )
            return send.id

    def test_everything_kept_is_taken_along(self, api, ann):
        found = api("get", "/contacts/1/everything")[1]
        assert found["contact"]["email"] == "ann@post.example" and found["lists"] == ["Guests"]
        assert found["events"][0]["details"] == {"amount": 24, "night": "for Ann"}
        assert (
            found["mails"][0]["filled"] == {"contact.first_name": "Ann"}
            and found["reactions"][0]["kind"] == "clicked"
        )
        assert found["consent_history"][0]["how"] == "test"

    def test_erased_for_good_and_the_sums_stay(self, api, ann, database, web):
        with database.session() as session:
            before = result(session, session.get_one(Send, ann), NOW)
        assert api("delete", "/contacts/1")[1] == {"erased": 1}
        assert api("get", "/contacts/1")[0] == 404 and api("delete", "/contacts/1")[0] == 404
        with database.session() as session:
            after = result(session, session.get_one(Send, ann), NOW)
            assert (after.tally, after.clicked, after.converted, after.amount) == (
                before.tally,
                before.clicked,
                before.converted,
                before.amount,
            )
            assert (after.clicked, after.converted, after.amount) == (1, 1, 24.0)
            for table in (
                "contacts",
                "consents",
                "consent_changes",
                "list_members",
                "deliveries",
                "reactions",
                "events",
                "audit",
            ):
                rows = (
                    session.execute(sa.text(f"SELECT CAST(t AS text) FROM {table} t"))
                    .scalars()
                    .all()
                )
                assert not any(
                    "ann@" in row.lower() or "for ann" in row.lower() or '"ann"' in row.lower()
                    for row in rows
                ), table
        assert "an erased contact" in words(web.get("/changes").text)
        assert (
            web.get(f"/results/{ann}").status_code == 200
            and web.get(f"/results/{ann}/people/clicked").status_code == 200
        )
