"""What people press that the API, a script or an action does as well: each by its own page."""

import dataclasses
import io
import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions as messages
from meadowrun.people.models import Field
from meadowrun.people.queries import dictionary
from meadowrun.segments.models import Segment
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, add
from tests.store.pictures import drawn, put
from tests.store.sending import counts, run_all, started
from tests.store.web import sign_in, words


class TestFiles:
    def test_an_unused_file_is_deleted_and_the_editor_is_offered_the_others(self, web, database):
        one, two = put(web, drawn(300, 100)).json, put(web, drawn(300, 100), "second.png").json
        assert {(p["src"], p["name"]) for p in web.get("/files/pictures").json["pictures"]} == {
            (one["src"], "dome.png"),
            (two["src"], "second.png"),
        }
        with database.session() as session:
            ident = session.execute(
                sa.text("SELECT id FROM files WHERE name = 'dome.png'")
            ).scalar()
        assert "“dome.png” was deleted." in words(
            web.post(f"/files/{ident}/delete", follow_redirects=True).text
        )
        assert (
            web.get(one["src"]).status_code == 404
            and web.post(f"/files/{ident}/delete").status_code == 404
        )
        assert [p["name"] for p in web.get("/files/pictures").json["pictures"]] == ["second.png"]


class TestRecord:
    def test_all_that_is_kept_is_taken_along(self, web, three):
        answer = web.get(f"/people/{three['Ann']}/everything.json")
        kept = json.loads(answer.text)
        assert (kept["contact"]["email"], kept["fields"]) == (
            "ann@post.example",
            {"membership": "Patron"},
        )
        assert f"contact-{three['Ann']}.json" in answer.headers["Content-Disposition"]
        assert "downloaded everything about" in words(web.get("/changes").text)

    def test_erased_for_good(self, web, client, three):
        assert "Erased for good." in words(
            web.post(f"/people/{three['Ann']}/erase", follow_redirects=True).text
        )
        assert (
            web.get(f"/people/{three['Ann']}").status_code == 404
            and web.get(f"/people/{three['Ben']}").status_code == 200
        )
        client.post("/sign-out")
        sign_in(client, "author")
        assert client.post(f"/people/{three['Ben']}/erase").status_code == 403

    def test_a_field_is_added(self, web, database):
        answer = web.post(
            "/people/fields",
            data={
                "owner": "contact",
                "label": "Shoe size",
                "type": "choice",
                "options": "38, 39\n40",
                "meaning": "for the slippers",
            },
            follow_redirects=True,
        )
        assert "The field “Shoe size” can be used now." in words(answer.text)
        with database.session() as session:
            made = session.scalar(sa.select(Field))
        assert (made.key, made.options, made.meaning) == (
            "shoe_size",
            ["38", "39", "40"],
            "for the slippers",
        )
        again = web.post(
            "/people/fields",
            data={"owner": "contact", "label": "", "type": "text", "meaning": "kept"},
        )
        assert again.status_code == 422 and 'value="kept"' in again.text


class TestSegments:
    def saved(self, web, name, *lines):
        assert (
            web.post(
                "/segments/save", json={"definition": {"lines": list(lines)}, "name": name}
            ).status_code
            == 200
        )

    def test_a_part_of_two_becomes_a_segment_that_follows_them(self, web, town, database):
        self.saved(
            web,
            "Farrow",
            {"id": "a", "kind": "field", "field": "town", "op": "is", "value": ["Farrow"]},
        )
        self.saved(
            web,
            "Patrons",
            {"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]},
        )
        shown = words(web.get("/segments/compare?of=1&of=2").text)
        # Ann is in both, Bo in the first, Cy in the second.
        assert "3 people in any of them" in shown
        answer = web.post(
            "/segments/compare?of=1&of=2",
            data={"of": ["1", "2"], "region": "10", "name": "Farrow, no patrons"},
            follow_redirects=True,
        )
        assert "“Farrow, no patrons” stays up to date with what it is made of." in words(
            answer.text
        )
        assert "Bo" in words(web.get("/segments/3/people").text) and "Ann" not in words(
            web.get("/segments/3/people").text
        )
        twice = web.post(
            "/segments/compare?of=1&of=2", data={"of": ["1", "2"], "region": "10", "name": "Farrow"}
        )
        assert twice.status_code == 409 and "already" in words(twice.text)

    def test_taken_along_and_taken_in_where_numbers_differ(self, web, town, database):
        self.saved(
            web,
            "Patrons",
            {"id": "a", "kind": "field", "field": "tier", "op": "is", "value": ["Patron"]},
        )
        self.saved(
            web,
            "All but patrons",
            {
                "id": "g",
                "kind": "group",
                "match": "all",
                "lines": [{"id": "s", "kind": "segment", "segment": 1, "inside": False}],
            },
        )
        file = web.get("/segments/2.json")
        kept = json.loads(file.text)
        assert kept["name"] == "All but patrons" and kept["names"] == {"segment": {"1": "Patrons"}}
        assert "segment-2.json" in file.headers["Content-Disposition"]
        # There the segment had another number, and 1 was something else.
        kept["lines"][0]["lines"][0]["segment"], kept["names"] = 77, {"segment": {"77": "Patrons"}}
        answer = self.take_in(web, kept | {"name": "From afar"})
        assert "“From afar” was imported." in words(answer.text)
        with database.session() as session:
            made = session.scalar(sa.select(Segment).where(Segment.name == "From afar"))
            assert made.definition["lines"][0]["lines"][0]["segment"] == 1

    def take_in(self, web, data):
        content = data if isinstance(data, bytes) else json.dumps(data).encode()
        return web.post(
            "/segments/import",
            data={"file": (io.BytesIO(content), "s.json")},
            follow_redirects=True,
        )

    @pytest.mark.parametrize(
        ("data", "says"),
        [
            (b"\xff\xfe rubbish", "is not a segment"),
            (b"[]", "is not a segment"),
            ({"lines": 5}, "is not a segment"),
            (
                {
                    "name": "X",
                    "lines": [{"id": "s", "kind": "list", "list": 3}],
                    "names": {"list": {"3": "Guests"}},
                },
                "There is no list called “Guests” here",
            ),
            (
                {"name": "X", "lines": [{"id": "s", "kind": "list", "list": 3}]},
                "does not exist any more",
            ),
            (
                {
                    "name": "X",
                    "lines": [None, {"id": "s", "kind": "list", "list": []}],
                    "names": [],
                },
                "not imported",
            ),
        ],
    )
    def test_what_is_no_segment_of_ours(self, web, town, database, data, says):
        assert says in words(self.take_in(web, data).text)
        with database.session() as session:
            assert session.scalar(sa.select(sa.func.count()).select_from(Segment)) == 0


class Site(BaseHTTPRequestHandler):
    def do_GET(self):
        self.send_response(404 if self.path == "/gone" else 200)
        self.end_headers()

    def log_message(self, *_):
        pass


class TestMessages:
    def test_offered_where_one_begins_and_no_longer(self, web, letter):
        assert "It is now offered as a starting point." in words(
            web.post(f"/messages/{letter}/starting-point", follow_redirects=True).text
        )
        assert f'name="from" value="{letter}"' in web.get("/messages/new").text
        assert "no longer offered" in words(
            web.post(f"/messages/{letter}/starting-point", follow_redirects=True).text
        )
        assert f'name="from" value="{letter}"' not in web.get("/messages/new").text

    def test_plain_text_to_begin_ones_own_with(self, web, letter):
        answer = web.post(
            f"/messages/{letter}/save", json={"version": 1, "changes": [{"do": "own_plain"}]}
        ).json
        assert "Good evening" in answer["document"]["plain"] and answer["document"]["plain_of"]
        assert "Good evening" in answer["lines"], "it stands where it can be edited"

    def test_links_are_really_followed_on_request(self, web, database, settings):
        server = HTTPServer(("127.0.0.1", 0), Site)
        # This site stands inside this network, and the settings say so; of no other may anything be
        # learnt.
        web.application.config["MEADOWRUN"] = dataclasses.replace(
            settings, inner_hosts=frozenset({f"127.0.0.1:{server.server_port}"})
        )
        threading.Thread(target=server.serve_forever, daemon=True).start()
        home = f"http://127.0.0.1:{server.server_port}"
        try:
            with database.session() as session:
                add(session, NOW, "ann@post.example", first_name="Ann")
                ident = messages.create(
                    session,
                    IDA,
                    NOW,
                    "Links",
                    messages.take(
                        empty()
                        | {
                            "subject": "S",
                            "lines": [
                                new_line("button", label="Good", href=f"{home}/good"),
                                new_line("button", label="Gone", href=f"{home}/gone"),
                                new_line("button", label="Nobody", href="http://127.0.0.1:2/"),
                                new_line("footer"),
                            ],
                        },
                        dictionary(session),
                    ),
                ).id
            links = {
                link["href"]: link for link in web.post(f"/messages/{ident}/links").json["links"]
            }
        finally:
            server.shutdown()
        assert links[f"{home}/good"] == {"href": f"{home}/good", "said": "200", "good": True}
        assert links[f"{home}/gone"]["said"].startswith("404") and not links[f"{home}/gone"]["good"]
        assert links["http://127.0.0.1:2/"]["said"] == "no answer: 127.0.0.1 is inside this network"
        assert len(links) == 3, "our own ways out are not followed"


class TestSends:
    def test_the_very_mail_of_somebody_and_of_nobody(
        self, web, database, settings, job_context, keeper
    ):
        ident = started(database, settings, 2)
        run_all(database, ident)
        shown = words(web.get(f"/sends/{ident}/mail/1").text)
        assert (
            "Exactly what they got" in shown
            and "Hello First1" in shown
            and "to p1@post.example" in shown
            and "Delivered" in shown
        )
        assert web.get(f"/sends/{ident}/mail/9").status_code == 404

    @pytest.mark.parametrize(
        ("arrived", "after"), [("yes", {"delivered": 3}), ("no", {"delivered": 2, "waiting": 1})]
    )
    def test_a_doubt_is_settled_by_a_person(
        self, web, database, settings, job_context, keeper, arrived, after
    ):
        ident = started(database, settings, 3)
        with clock.at(NOW):
            jobs.run_here("sends.take", send_id=ident)
        with database.session() as session:
            session.execute(
                sa.text("UPDATE deliveries SET outcome = 'in_hand' WHERE contact_id = 1")
            )
        run_all(database, ident)
        assert counts(database, ident)[0] == {"in_doubt": 1, "delivered": 2}
        page = web.get(f"/results/{ident}/people/in_doubt").text
        assert f"/sends/{ident}/settle" in page and "What is known" in page
        assert "Choose the people first." in words(
            web.post(
                f"/sends/{ident}/settle", data={"arrived": arrived}, follow_redirects=True
            ).text
        )
        assert "1 person settled" in words(
            web.post(
                f"/sends/{ident}/settle",
                data={"arrived": arrived, "contact": "1"},
                follow_redirects=True,
            ).text
        )
        assert counts(database, ident)[0] == after
        assert (
            web.post(f"/sends/{ident}/settle", data={"arrived": "yes", "contact": "1"}).status_code
            == 409
        )
        with database.session() as session:
            assert session.get_one(Send, ident).state == ("done" if arrived == "yes" else "running")


def test_the_worker_that_a_website_copies(client):
    answer = client.get("/site-worker.js")
    assert (
        answer.status_code == 200
        and "javascript" in answer.headers["Content-Type"]
        and b"showNotification" in answer.data
    )
