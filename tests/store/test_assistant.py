"""The assistant that a house may set up: it is asked by its protocol, and held to what it was
told."""

import dataclasses
import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import sqlalchemy as sa

from meadowrun.core.content.suggest import Brief
from meadowrun.gateways import assistant
from meadowrun.shell import accounts
from meadowrun.shell.app import create_app
from tests.conftest import NOW
from tests.store.people import add
from tests.store.web import sign_in

JSON = {"Accept": "application/json"}


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
