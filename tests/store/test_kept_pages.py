"""The pages around a message, as their users go: review and comments, drafts side by side, kept
rows, house style, feeds and tables, a message by a field, ways in and out, and suggestions by a
server."""

import dataclasses
import datetime as dt
import io
import json
import re
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import sqlalchemy as sa

from meadowrun.core.channels import beginning
from meadowrun.core.content.document import empty, take
from meadowrun.core.content.lines import new_line
from meadowrun.core.content.suggest import Brief
from meadowrun.gateways import assistant
from meadowrun.messages import actions, feeds, queries
from meadowrun.messages.models import Feed, Message
from meadowrun.people.queries import dictionary
from meadowrun.shell import accounts
from meadowrun.shell.app import create_app
from tests.conftest import NOW
from tests.store.letters import LETTER, changed
from tests.store.people import IDA, add, ready_send
from tests.store.web import sign_in, user, word, words

JSON = {"Accept": "application/json"}


class TestReview:
    @staticmethod
    def shown(reader, letter):
        """The fingerprint of what the review's page shows."""
        return re.search(
            r'name="content" value="([0-9a-f]{64})"', reader.get(f"/messages/{letter}/review").text
        ).group(1)

    def asked(self, web, database, letter):
        web.post(f"/messages/{letter}/review", data={"reviewer": user(database, "hetty")})
        with database.session() as session:
            return session.execute(sa.text("SELECT max(id) FROM reviews")).scalar()

    def test_sent_back_with_a_word_then_approved_and_serving_on(
        self, web, second, database, letter
    ):
        number = self.asked(web, database, letter)
        assert "Admin asks Hetty about draft 1" in words(web.get(f"/messages/{letter}/review").text)
        wordless = second.post(f"/messages/{letter}/review/{number}", data={"answer": "back"})
        assert wordless.status_code == 422 and "Say what should be changed" in wordless.text
        second.post(
            f"/messages/{letter}/review/{number}",
            data={"answer": "back", "note": "Shorter, please."},
        )
        assert "Shorter, please." in web.get(f"/messages/{letter}/review").text
        again = second.post(f"/messages/{letter}/review/{number}", data={"answer": "approve"})
        assert again.status_code == 409
        number = self.asked(web, database, letter)
        agreed = {"answer": "approve", "content": self.shown(second, letter)}
        assert "Draft 1 is approved" in words(
            second.post(
                f"/messages/{letter}/review/{number}", data=agreed, follow_redirects=True
            ).text
        )
        drafts = words(web.get(f"/messages/{letter}/drafts").text)
        assert (
            "Sent back by Hetty" in drafts
            and "Approved by Hetty" in drafts
            and "Shorter, please." in drafts
        )
        web.post(
            f"/messages/{letter}/save",
            json={"document": changed(h={"text": "Another heading"}), "version": 1},
        )
        with database.session() as session:
            approved = queries.approved(session, letter)
            assert (
                approved.approved_by == "Hetty"
                and approved.document["lines"][0]["text"] == "Good evening"
            )
        page = words(web.get(f"/messages/{letter}/review").text)
        assert "Another heading" in page, "what changed since is said"

    def test_what_was_written_since_is_never_approved_unread(self, web, second, database, letter):
        """The author writes on while the review's page is open: only what the page showed becomes
        an edition."""
        number = self.asked(web, database, letter)
        content = self.shown(second, letter)
        web.post(
            f"/messages/{letter}/save",
            json={"document": changed(h={"text": "Never seen"}), "version": 1},
        )
        page = words(second.get(f"/messages/{letter}/review").text)
        assert "Draft 2 has been written since" in page and self.shown(second, letter) == content
        assert (
            second.post(
                f"/messages/{letter}/review/{number}",
                data={"answer": "approve", "content": "0" * 64},
            ).status_code
            == 409
        )
        with database.session() as session:
            assert queries.approved(session, letter) is None
        second.post(
            f"/messages/{letter}/review/{number}", data={"answer": "approve", "content": content}
        )
        with database.session() as session:
            approved = queries.approved(session, letter)
            assert approved.document["lines"][0]["text"] == "Good evening"
            # And what was asked about cannot be changed behind it: it is refused even then.
            again = self.asked(web, database, letter)
            session.execute(
                sa.text(
                    "UPDATE drafts SET document = jsonb_set(document, '{subject}', "
                    "'\"Swapped\"') WHERE number = 2"
                )
            )
        assert (
            second.post(
                f"/messages/{letter}/review/{again}",
                data={"answer": "approve", "content": self.shown(second, letter)},
            ).status_code
            == 409
        )

    def test_a_newer_draft_goes_only_where_that_was_chosen(self, web, second, database, letter):
        with database.session() as session:
            send = ready_send(session, NOW, {"in": [{"everyone": True}], "out": []})
            letter, ident = send.message_id, send.id
        assert "draft 1" in words(web.get(f"/sends/{ident}").text)
        number = self.asked(web, database, letter)
        second.post(
            f"/messages/{letter}/review/{number}",
            data={"answer": "approve", "content": self.shown(second, letter)},
        )
        with database.session() as session:
            message = session.get_one(Message, letter)
            actions.save(
                session,
                IDA,
                NOW,
                message,
                message.document | {"subject": "Unapproved"},
                message.version,
                dictionary(session),
            )
        page = words(web.get(f"/sends/{ident}").text)
        assert "edition 1, approved by Hetty" in page and "draft 2 is newer and does not go" in page
        with database.session() as session:
            assert queries.to_send(session, session.get_one(Message, letter), "approved")[
                "subject"
            ].startswith("Hello")
        word(web, ident, "state", database, takes="newest")
        assert "draft 2, which nobody has approved" in words(web.get(f"/sends/{ident}").text)
        with database.session() as session:
            assert (
                queries.to_send(session, session.get_one(Message, letter), "newest")["subject"]
                == "Unapproved"
            )
        # Where the house asks for approval nothing else can be chosen.
        web.post("/messages/house", data=HOUSE | {"review": "1"})
        assert "edition 1, approved by Hetty" in words(web.get(f"/sends/{ident}").text)
        with database.session() as session:
            found = actions.edition_to_send(
                session, IDA, NOW, session.get_one(Message, letter), "http://x", "newest"
            )
            assert (found.number, found.approved_by) == (1, "Hetty")

    def test_what_was_sent_long_before_is_approved_when_it_is_approved(self, database, letter):
        with database.session() as session:
            message, later = session.get_one(Message, letter), NOW + dt.timedelta(days=400)
            sent = actions.make_edition(session, IDA, NOW, message, "http://x")
            assert (sent.at, sent.approved_at) == (NOW, None)
            again = actions.make_edition(
                session, IDA, later, message, "http://x", approved_by="Hetty"
            )
            assert (again.id, again.at, again.approved_at) == (sent.id, NOW, later)

    def test_only_who_was_asked_answers_and_nobody_asks_themselves(
        self, web, second, database, letter
    ):
        own = web.post(f"/messages/{letter}/review", data={"reviewer": user(database, "admin")})
        assert own.status_code == 422 and "another person’s review" in own.text
        number = self.asked(web, database, letter)
        other = web.post(
            f"/messages/{letter}/review/{number}", data={"answer": "approve"}, headers=JSON
        )
        assert other.status_code == 422 and "Somebody else was asked" in other.json["error"]
        assert (
            second.post(
                f"/messages/{letter + 1}/review/{number}", data={"answer": "approve"}
            ).status_code
            == 404
        )

    def test_comments_stand_at_their_line_until_done(self, web, second, letter):
        assert (
            second.post(
                f"/messages/{letter}/comments", json={"line": "h", "text": "  "}, headers=JSON
            ).status_code
            == 422
        )
        made = second.post(
            f"/messages/{letter}/comments", json={"line": "h", "text": "Say which evening"}
        ).json["id"]
        assert (
            "Say which evening" in web.get(f"/messages/{letter}").text
            and "Say which evening" in web.get(f"/messages/{letter}/review").text
        )
        web.post(f"/messages/{letter}/comments/{made}/done")
        assert "Say which evening" not in web.get(f"/messages/{letter}").text
        assert web.post(f"/messages/{letter + 1}/comments/{made}/done").status_code == 404

    def test_drafts_side_by_side_mark_what_differs(self, web, letter):
        web.post(
            f"/messages/{letter}/save",
            json={"document": changed(h={"text": "Come early"}), "version": 1},
        )
        page = web.get(f"/messages/{letter}/compare").text
        assert "heading of line 1 says “Come early”" in words(page) and "mark=h" in page
        assert ".ln-h{" in web.get(f"/messages/{letter}/drafts/1.html?mark=h").text
        assert "evil" not in web.get(f"/messages/{letter}/drafts/1.html?mark=h{{}}evil").text


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


class Server(BaseHTTPRequestHandler):
    said: str | bytes = ""
    asked: list[dict] = []

    def do_POST(self):
        self.asked.append(
            {
                "path": self.path,
                "key": self.headers.get("Authorization"),
                **json.loads(self.rfile.read(int(self.headers["Content-Length"]))),
            }
        )
        body = (
            self.said
            if isinstance(self.said, bytes)
            else json.dumps({"choices": [{"message": {"content": self.said}}]}).encode()
        )
        self.send_response(200)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *_):
        pass


@pytest.fixture
def helper(settings):
    server = HTTPServer(("127.0.0.1", 0), Server)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Server.asked.clear()
    yield dataclasses.replace(
        settings,
        assistant_url=f"http://127.0.0.1:{server.server_port}/v1",
        assistant_key="secret",
        assistant_model="tiny",
    )
    server.shutdown()


class TestAssistant:
    BRIEF = Brief("invite to the Leonid nights", "warm", "informal", ["venue"], ["dome"], ["cheap"])

    def test_it_is_asked_by_the_protocol_and_held_to_what_it_was_told(self, helper):
        Server.said = (
            'Here: ["Come up tonight", "Only 5 pounds!", "So cheap", "At {{ fact.venue '
            '}}", "For {{ contact.salary }}", 7]'
        )
        texts, note = assistant.suggestions(helper, "subject", self.BRIEF, ["own"])
        assert (texts, note) == (["Come up tonight", "At {{ fact.venue }}"], "")
        (asked,) = Server.asked
        assert (asked["path"], asked["key"], asked["model"]) == (
            "/v1/chat/completions",
            "Bearer secret",
            "tiny",
        )
        assert (
            "invite to the Leonid nights" in asked["messages"][0]["content"]
            and "cheap" in asked["messages"][0]["content"]
        )

    @pytest.mark.parametrize(
        "said", ["no list at all", b"no json", '["Win 1000 pounds"]', "[]", '["unclosed']
    )
    def test_rubbish_gives_our_own(self, helper, said):
        Server.said = said
        texts, note = assistant.suggestions(helper, "subject", self.BRIEF, ["own"])
        assert texts == ["own"] and "made here" in note

    def test_over_http_and_what_was_chosen_is_kept(self, database, helper, letter):
        Server.said = '["Come up tonight"]'
        app = create_app(helper, database)
        app.config["WTF_CSRF_ENABLED"] = False
        with database.session() as session:
            accounts.add_user(
                session, NOW, "admin@farrowhill.example", "Admin", "admin", "a long password"
            )
            add(session, NOW, "cy@post.example")
        desk = app.test_client()
        sign_in(desk)
        brief = {"slot": "subject", "purpose": "invite", "tone": "warm", "formality": "informal"}

        def ask(**more):
            return desk.post(f"/messages/{letter}/suggest", json=brief | more, headers=JSON)

        assert [s["text"] for s in ask().json["suggestions"]] == ["Come up tonight"]
        assert ask(purpose=" ").status_code == 422 and ask(slot="nowhere").status_code == 422
        desk.post(
            f"/messages/{letter}/chosen",
            json={"slot": "subject", "text": "Come up tonight", "brief": {"purpose": "invite"}},
        )
        with database.session() as session:
            row = session.execute(
                sa.text("SELECT who, detail FROM audit WHERE did = 'took a suggestion for'")
            ).one()
            assert (
                row[0] == "Admin"
                and row[1]["text"] == "Come up tonight"
                and row[1]["brief"] == {"purpose": "invite"}
            )
