"""The pages around a message, as their users go: kept rows, house style, feeds and tables, a
message by a field, and ways in and out."""

import dataclasses
import io

import pytest
import sqlalchemy as sa

from meadowrun.core.channels import beginning
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions, feeds, queries
from meadowrun.messages.models import Feed, Message
from meadowrun.people.queries import dictionary
from meadowrun.shell import accounts
from meadowrun.shell.app import create_app
from tests.conftest import NOW
from tests.store.letters import LETTER
from tests.store.people import IDA, add, ready_send
from tests.store.web import sign_in, words

JSON = {"Accept": "application/json"}


class TestRows:
    @pytest.fixture(autouse=True)
    def source(self, database):
        """A message whose one line is saved as a shared part, again and again."""
        with database.session() as session:
            self.ident = actions.create(session, IDA, NOW, "Source", empty()).id

    def kept(self, web, name="How to find us", line=None, **more):
        """The answer to saving a line as a shared part."""
        line = line or {
            "id": "r",
            "type": "text",
            "html": f"<p>{more.get('text', 'Up the quarry path')}</p>",
        }
        version = web.post(f"/messages/{self.ident}/save", json={"version": 0}).json["newest"]
        return web.post(
            f"/messages/{self.ident}/save",
            json={
                "version": version,
                "document": empty() | {"lines": [line]},
                "changes": [{"do": "keep", "line": line["id"], "name": name}],
            },
            headers=JSON,
        )

    def part(self, web, **more):
        """The number of a new shared part, which its source does not use."""
        kept = self.kept(web, **more).json
        web.post(
            f"/messages/{self.ident}/save",
            json={"version": kept["version"], "document": empty()},
        )
        return kept["document"]["lines"][0]["part"]

    def test_a_row_is_followed_by_whom_the_author_chooses(self, web, database, letter):
        part = self.part(web)
        lines = [
            *LETTER["lines"][:3],
            {"id": "k", "type": "shared", "part": part, "version": 1},
            LETTER["lines"][3],
        ]
        web.post(
            f"/messages/{letter}/save", json={"document": LETTER | {"lines": lines}, "version": 1}
        )
        web.post(
            f"/messages/shared/{part}/save",
            json={
                "document": {"lines": [{"id": "r", "type": "text", "html": "<p>By the river</p>"}]},
                "version": 1,
            },
        )
        assert "Up the quarry path" in web.get(f"/messages/{letter}/read.html").text, (
            "nothing changes behind an author's back"
        )
        page = words(web.get(f"/messages/shared/{part}/uses").text)
        assert "A letter" in page and "text of line 1 says “By the river”" in page
        assert "A letter" in words(
            web.post(
                f"/messages/shared/{part}/follow", data={"message": letter}, follow_redirects=True
            ).text
        )
        assert "By the river" in web.get(f"/messages/{letter}/read.html").text
        web.post(f"/messages/shared/{part}/restore/1")
        assert "Up the quarry path" in web.get(f"/messages/shared/{part}/read.html").text
        assert "This shared part is used in “A letter”" in words(
            web.post(f"/messages/shared/{part}/delete", follow_redirects=True).text
        )
        # Version 1 came back as the third, and the letter still reads the second.
        assert "1 message 1 not up to date" in words(web.get("/messages/shared").text)

    def test_what_a_row_cannot_be(self, web):
        part = self.part(web)
        assert self.kept(web).status_code == 409
        assert self.kept(web, name=" ").status_code == 422
        inside = self.kept(
            web,
            name="Nested",
            line={"id": "k", "type": "shared", "part": part, "version": 1},
        )
        assert inside.status_code == 422 and "another one" in inside.json["error"]
        assert (
            web.post(
                f"/messages/shared/{part}/save",
                json={
                    "document": {"lines": [{"id": "r", "type": "text", "html": "<p>x</p>"}]},
                    "version": 9,
                },
                headers=JSON,
            ).status_code
            == 409
        )
        gone = web.post(
            f"/messages/{self.ident}/save",
            json={
                "version": web.post(f"/messages/{self.ident}/save", json={"version": 0}).json[
                    "newest"
                ],
                "document": empty()
                | {"lines": [{"id": "k", "type": "shared", "part": part, "version": 99}]},
                "changes": [{"do": "unpack", "line": "k"}],
            },
        )
        assert gone.status_code == 422 and "no such version" in gone.json["error"]
        assert (
            web.post("/messages/shared", data={"name": "Adaptive", "kind": "adaptive"}).status_code
            == 303
        )

    def test_a_row_is_read_and_written_like_a_message(self, web, letter):
        part = self.part(web, text="For {{ contact.first_name | default('you', true) }}")
        assert "Where it is used" in words(web.get(f"/messages/shared/{part}").text)
        assert "For Ann" in web.get(f"/messages/shared/{part}/read?as=1").json["text"]
        assert "For Ann" in web.get(f"/messages/shared/{part}/read.html?as=1").text
        added = web.post(
            f"/messages/shared/{part}/save",
            json={"version": 1, "changes": [{"do": "add", "type": "button", "into": ""}]},
        ).json
        assert 'data-type="button"' in added["lines"] and added["version"] == 2
        assert (
            web.post(f"/messages/shared/{part}/people", json={"q": "ann"}).json["people"][0]["name"]
            == "Ann"
        )
        assert any(
            f["ref"] == "contact.town"
            for f in web.get(f"/messages/shared/{part}/fills").json["fields"]
        )


HOUSE = {
    "greetings": "0:00 Good night\n5:00 Good morning",
    "agreed_words": "dome, dome, clear night",
    "avoided_words": "cheap",
    "proof_group": "a@post.example b@post.example",
    "accent": "#112233",
}


class TestHouse:
    def test_kept_and_given_to_new_messages(self, web, database):
        assert "Saved." in web.post("/messages/house", data=HOUSE, follow_redirects=True).text
        with database.session() as session:
            house = queries.house(session)
            assert house.greetings == [
                [0, "Good night"],
                [5, "Good morning"],
            ] and house.agreed_words == ["dome", "clear night"]
            assert house.proof_group == "a@post.example, b@post.example" and not house.review
        web.post("/messages/new", data={"name": "New"})
        with database.session() as session:
            assert (
                session.scalar(sa.select(Message).where(Message.name == "New")).document[
                    "settings"
                ]["accent"]
                == "#112233"
            )

    @pytest.mark.parametrize(
        "change, says",
        [
            ({"greetings": "5:00 Good morning"}, "must begin at 0:00"),
            ({"greetings": "soon Good morning"}, "is not a greeting"),
            ({"greetings": ""}, "must begin at 0:00"),
            ({"accent": "red"}, "is not a colour"),
            ({"width": "wide"}, "not a whole number"),
            ({"text_font": "Papyrus"}, "not a font"),
            ({"pages": "owls, Our owls, https://owls.example"}, "“owls, Our owls"),
            ({"pages": "pictures, https://owls.example"}, "is not a page. Write the icon"),
            ({"pages": "pictures, Our owls, javascript:alert(1)"}, "Our owls"),
        ],
    )
    def test_nothing_typed_is_lost_when_refused(self, web, change, says):
        answer = web.post("/messages/house", data=HOUSE | change)
        assert (
            answer.status_code == 422
            and says in words(answer.text)
            and "clear night" in answer.text
        )

    def test_a_new_line_of_icons_begins_with_the_pages_of_the_house(self, web, database, letter):
        """Their names are read out where pictures are off; no script is an address."""
        pages = (
            "pictures, Our pictures & more, https://owls.example/p\nChat, Ask, mailto:a@b.example"
        )
        assert web.post("/messages/house", data=HOUSE | {"pages": pages}).status_code == 303
        assert "pictures, Our pictures &amp; more, https" in web.get("/messages/house").text
        version = web.get(f"/messages/{letter}").text.split('data-version="')[1].split('"')[0]
        saved = web.post(
            f"/messages/{letter}/save",
            json={"version": int(version), "changes": [{"do": "add", "type": "icons", "into": ""}]},
        )
        assert saved.status_code == 200, saved.text
        with database.session() as session:
            made = session.get_one(Message, letter).document["lines"]
            icons = next(line["icons"] for line in made if line["type"] == "icons")
        assert icons == [
            {"icon": "camera", "name": "Our pictures & more", "href": "https://owls.example/p"},
            {"icon": "chat", "name": "Ask", "href": "mailto:a@b.example"},
        ]
        read = web.get(f"/messages/{letter}/read.html?as=1").text
        assert 'alt="Our pictures &amp; more"' in read and "static/icons/camera.png" in read

    def test_a_send_waits_for_approval_where_the_house_asks_for_it(self, web, database, letter):
        web.post("/messages/house", data=HOUSE | {"review": "1"})
        with database.session() as session, pytest.raises(Exception, match="Nobody has approved"):
            actions.edition_to_send(
                session, IDA, NOW, session.get_one(Message, letter), "http://x", "approved"
            )
        assert "Nobody has approved this draft" in web.get(f"/messages/{letter}/checks").text

    def test_authors_may_not_change_it(self, client):
        sign_in(client, "author")
        assert client.post("/messages/house", data=HOUSE).status_code == 403


class TestLookups:
    @pytest.mark.parametrize(
        ("channel", "page"), [("email", ""), ("sms", "/text"), ("push", "/notification")]
    )
    def test_who_would_read_a_gap_where_a_table_has_nothing(self, web, database, channel, page):
        with database.session() as session:
            for name, town in (
                ("Ann", "FARROW"),
                ("Bo", "Tarnside"),
                ("Cy", None),
                ("Di", "Weißdorf"),
            ):
                add(session, NOW, f"{name.lower()}@post.example", first_name=name, town=town)
        for key, by, text in (
            ("prices", "contact.town", "Town,Ticket\nFarrow,9\nTarnside,\nWEISSDORF,5\n"),
            ("nights", "today", "Day,What\n2026-11-23,Saturn\n2026-11-25,Mars\n2026-11-27,\n"),
        ):
            web.post(
                "/messages/tables",
                data={"key": key, "looked_up_by": by, "file": (io.BytesIO(text.encode()), "p.csv")},
            )
        with database.session() as session:
            text = "It costs {{ table.prices.ticket }} to see {{ table.nights.what }}"
            document = (
                empty() | {"subject": text}
                if channel == "email"
                else beginning(channel, "Farrow Hill", "STOP") | {"plain": text}
            )
            ident = actions.create(
                session, IDA, NOW, "Tonight", actions.take(document, {}, channel), channel
            ).id
        shown = words(web.get(f"/messages/{ident}{page}").text)
        assert (
            "2 people of 4 have no ticket from prices and would read a gap. Add a fallback."
            in shown
        )
        assert (
            "“what” from nights is known for 2 days, the last 25 Nov 2026. On any other day "
            "people would read a gap."
        ) in shown

    def test_tables(self, web, database):
        def give(text, **more):
            return web.post(
                "/messages/tables",
                data={
                    "key": "prices",
                    "looked_up_by": "contact.town",
                    "file": (io.BytesIO(text.encode()), "p.csv"),
                }
                | more,
            )

        assert "holds 2 rows" in words(
            web.post(
                "/messages/tables",
                data={
                    "key": "prices",
                    "looked_up_by": "contact.town",
                    "file": (io.BytesIO(b"Town,Ticket price\nFarrow,9\nTarnside,7\n"), "p.csv"),
                },
                follow_redirects=True,
            ).text
        )
        for text, more, says in (
            ("a,b\n1,2\n1,3\n", {}, "is there twice"),
            ("a,b\n1\n", {}, "Row 2 has 1 cells"),
            ("a,a\n1,2\n", {}, "no usable name"),
            ("a\n", {}, "1 to 20,000 rows"),
            ("a,b\n1,2\n", {"key": "Bad Key"}, "lower-case letters"),
            ("a,b\n1,2\n", {"looked_up_by": "contact.nothing"}, "looked up by"),
            ("a,b\n1,2\n", {"key_column": "c"}, "There is no column"),
        ):
            refused = give(text, **more)
            assert refused.status_code == 422 and says in words(refused.text), says
        with database.session() as session:
            table = queries.tables(session)[0]
            assert table.columns == ["town", "ticket_price"] and table.rows["farrow"] == {
                "town": "Farrow",
                "ticket_price": "9",
            }
            ident = table.id
            made = actions.create(
                session,
                IDA,
                NOW,
                "Prices",
                take(empty() | {"subject": "Now {{ table.prices.ticket_price }}"}),
            )
            number = made.id
        assert "the message “Prices”" in web.get("/messages/lookups").text
        assert (
            web.get(f"/messages/tables/{ident}.csv").text
            == "\ufefftown,ticket_price\r\nFarrow,9\r\nTarnside,7\r\n"
        )
        refused = web.post(f"/messages/tables/{ident}/delete", follow_redirects=True).text
        assert "The table “prices” is used by the message “Prices”" in refused
        web.post(f"/messages/{number}/delete")
        web.post(f"/messages/tables/{ident}/delete")
        with database.session() as session:
            assert queries.tables(session) == []

    def test_a_send_that_is_planned_still_needs_its_feed(self, web, database):
        with database.session() as session:
            session.add(
                Feed(
                    key="sky",
                    url="http://weather.example/",
                    timeout_ms=1000,
                    keep_seconds=60,
                    when_down="wait",
                )
            )
            send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
            message = session.get_one(Message, send.message_id)
            listed = new_line("feed", feed="sky", html="<p>{{ item.title }}</p>")
            actions.save(
                session,
                IDA,
                NOW,
                message,
                message.document | {"lines": [listed]},
                message.version,
                dictionary(session),
            )
            send.edition_id, send.state = (
                actions.make_edition(session, IDA, NOW, message, "http://here.example").id,
                "planned",
            )
            # The draft goes on without it; what was planned does not.
            actions.save(
                session,
                IDA,
                NOW,
                message,
                message.document | {"lines": []},
                message.version,
                dictionary(session),
            )
            assert queries.uses_of_lookup(session, "feed", "sky") == [f"the send “{send.name}”"]
            assert queries.uses_of_lookup(session, "feed", "sk") == []
        assert (
            "is used by the send"
            in web.post("/messages/feeds/1/delete", follow_redirects=True).text
        )

    def test_a_feed_is_changed(self, database, settings):
        app = create_app(
            dataclasses.replace(settings, feed_hosts=frozenset({"weather.example"})), database
        )
        app.config["WTF_CSRF_ENABLED"] = False
        with database.session() as session:
            accounts.add_user(
                session, NOW, "admin@farrowhill.example", "Admin", "admin", "a long password"
            )
            session.add(
                Feed(
                    key="sky",
                    url="http://weather.example/",
                    timeout_ms=1000,
                    keep_seconds=60,
                    when_down="wait",
                )
            )
        desk = app.test_client()
        sign_in(desk)
        assert 'value="http://weather.example/"' in desk.get("/messages/lookups").text
        form = {
            "id": "1",
            "key": "other",
            "url": "http://weather.example/now",
            "when_down": "leave_out",
            "timeout_ms": "500",
            "keep_seconds": "0",
        }
        refused = desk.post("/messages/feeds", data=form | {"sample": "{"})
        assert (
            refused.status_code == 422
            and 'value="http://weather.example/now"' in refused.text
            and 'value="leave_out" selected' in refused.text
        )
        desk.post("/messages/feeds", data=form)
        with database.session() as session:
            feed = session.get_one(Feed, 1)
            assert (feed.key, feed.url, feed.when_down, feed.timeout_ms) == (
                "sky",
                "http://weather.example/now",
                "leave_out",
                500,
            )
        # Plain words need no quotes; a list or an object is read as one.
        for typed, held in (
            ("next Friday", "next Friday"),
            ('"Friday"', "Friday"),
            ("12.5", 12.5),
            ('["a", "b"]', ["a", "b"]),
        ):
            desk.post("/messages/feeds", data=form | {"fallback": typed})
            with database.session() as session:
                assert session.get_one(Feed, 1).fallback == held

    @pytest.mark.parametrize(
        "change, says",
        [
            ({"key": "No"}, "lower-case letters"),
            ({"url": "http://elsewhere.example/"}, "is not among the hosts"),
            ({"when_down": ""}, "Choose what happens"),
            ({"sample": "{"}, "The sample is not JSON"),
            ({"timeout_ms": "soon"}, "whole numbers"),
            ({"url": "ftp://x"}, "must begin with http"),
            ({"url": "http://127.0.0.1:1/{{ contact.nothing.here.at.all"}, ""),
        ],
    )
    def test_feeds_that_cannot_be_kept(self, database, settings, change, says):
        app = create_app(
            dataclasses.replace(settings, feed_hosts=frozenset({"127.0.0.1:1"})), database
        )
        app.config["WTF_CSRF_ENABLED"] = False
        with database.session() as session:
            accounts.add_user(
                session, NOW, "admin@farrowhill.example", "Admin", "admin", "a long password"
            )
        desk = app.test_client()
        sign_in(desk)
        form = {
            "key": "sky",
            "url": "http://127.0.0.1:1/",
            "when_down": "wait",
            "sample": '"Friday"',
        }
        refused = desk.post("/messages/feeds", data=form | change)
        assert refused.status_code == 422 and says in words(refused.text)
        assert desk.post("/messages/feeds", data=form).status_code == 303
        assert desk.post("/messages/feeds", data=form).status_code == 409
        assert "gave nothing" in desk.post("/messages/feeds/1/ask", follow_redirects=True).text
        feeds.forget()


class TestByAField:
    def test_chosen_kept_and_given_up(self, web, database, letter):
        with database.session() as session:
            other = actions.create(
                session, IDA, NOW, "For Farrow", take(LETTER | {"subject": "Farrow only"})
            ).id
        whole = (
            web.post("/messages/new", data={"name": "Chosen"}).headers["Location"].rsplit("/", 1)[1]
        )
        assert "For Farrow" in web.get(f"/messages/{whole}/chosen-by?field=contact.town").text
        none = web.post(
            f"/messages/{whole}/chosen-by",
            data={"field": "contact.town", "value": ["Farrow"], "for": ["0"]},
        )
        assert none.status_code == 422 and "at least one value" in none.text
        web.post(
            f"/messages/{whole}/chosen-by",
            data={
                "field": "contact.town",
                "value": ["Farrow"],
                "for": [other],
                "otherwise": letter,
            },
        )
        assert web.get(f"/messages/{whole}").headers["Location"].endswith("/chosen-by")
        assert web.get(f"/messages/{whole}/read?as=1").json["subject"] == "Farrow only"
        assert web.get(f"/messages/{whole}/read?as=2").json["subject"] == "Stars for you"
        web.post(f"/messages/{whole}/chosen-by", data={"stop": "1"})
        assert web.get(f"/messages/{whole}").status_code == 200


class TestInAndOut:
    def test_mjml_and_eml_are_taken_along_and_mjml_comes_back(self, web, letter):
        source = web.get(f"/messages/{letter}/message.mjml")
        assert (
            source.mimetype == "text/mjml"
            and "A-letter.mjml" in source.headers["Content-Disposition"]
        )
        mail = web.get(f"/messages/{letter}/message.eml?as=1").data
        assert b"Subject: Stars for Ann" in mail
        made = web.post("/messages/new", data={"name": "Back again", "code": source.text}).headers[
            "Location"
        ]
        assert (
            "Good evening" in web.get(made).text and "first name, or “friend”" in web.get(made).text
        )

    def test_code_is_one_way_and_keeps_the_draft_before(self, web, letter):
        web.post(f"/messages/{letter}/code", data={})
        page = web.get(f"/messages/{letter}").text
        assert "HTML of the whole email" in page and "{{ unsubscribe }}" in page
        assert web.get(f"/messages/{letter}/message.mjml", headers=JSON).status_code == 422
        web.post(f"/messages/{letter}/restore/1")
        assert "HTML of the whole email" not in web.get(f"/messages/{letter}").text
