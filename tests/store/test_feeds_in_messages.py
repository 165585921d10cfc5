"""Feeds in messages: looked up at the moment of sending, side by side, and never of a host that is
not allowed."""

import datetime as dt
import threading
import zoneinfo
from http.server import BaseHTTPRequestHandler, HTTPServer, ThreadingHTTPServer

import pytest
import sqlalchemy as sa

from meadowrun.base import clock
from meadowrun.core.content.document import empty
from meadowrun.core.content.lines import new_line
from meadowrun.messages import actions as messages
from meadowrun.messages import feeds, keeping
from meadowrun.messages.models import Message
from meadowrun.messages.values import Filler, Needs
from meadowrun.outgoing.queries import waits
from meadowrun.people.queries import dictionary
from meadowrun.sends.models import Send
from tests.conftest import NOW
from tests.store.people import IDA, kinds, ready_send
from tests.store.sending import counts, run_all, segment, start


class Weather(BaseHTTPRequestHandler):
    answers = {
        "/good": b'{"night": "Friday"}',
        "/huge": b'{"a": "' + b"x" * 300_000 + b'"}',
        "/text": b"no json",
    }
    asked = []

    def do_GET(self):
        self.asked.append(self.path)
        body = self.answers.get(self.path.split("?")[0])
        self.send_response(200 if body else 503)
        self.end_headers()
        self.wfile.write(body or b"")

    def log_message(self, *_):
        pass


@pytest.fixture
def weather():
    server = HTTPServer(("127.0.0.1", 0), Weather)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Weather.asked.clear()
    feeds.forget()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


@pytest.mark.parametrize(
    ("path", "when_down", "outcome", "says"),
    [
        ("/good", "leave_out", "delivered", "on Friday"),
        ("/down", "fallback", "delivered", "on some night"),
        ("/down", "leave_out", "not_rendered", None),
        ("/down", "wait", "waiting", None),
        ("/huge", "fallback", "delivered", "on some night"),
        ("/text", "fallback", "delivered", "on some night"),
    ],
)
def test_a_feed_is_looked_up_at_the_moment_of_sending(
    database, settings, job_context, keeper, weather, path, when_down, outcome, says
):
    import dataclasses

    from meadowrun.base import jobs

    allowed = dataclasses.replace(settings, feed_hosts=frozenset({weather.removeprefix("http://")}))
    jobs.set_context(jobs.Context(database, allowed))
    with clock.at(NOW), database.session() as session:
        crowd_of = 3
        kinds(session)
        from tests.store.people import many

        many(session, NOW, crowd_of)
        keeping.keep_feed(
            session,
            IDA,
            NOW,
            {
                "key": "sky",
                "url": weather + path,
                "part": "night",
                "when_down": when_down,
                "fallback": '"some night"',
                "keep_seconds": "60",
            },
            allowed.feed_hosts,
        )
        send = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []})
        message = session.get_one(Message, send.message_id)
        messages.save(
            session,
            IDA,
            NOW,
            message,
            empty()
            | {
                "subject": "Sky",
                "lines": [new_line("text", html="<p>on {{ feed.sky }}</p>"), new_line("footer")],
            },
            message.version,
            dictionary(session),
        )
        ident = send.id
    start(database, allowed, ident, crowd_of)
    run_all(database, ident)
    assert counts(database, ident)[0] == {outcome: crowd_of}
    if says:
        assert all(says in x.text for x in keeper.letters)
    if path == "/good":
        assert Weather.asked == ["/good"], "asked once for all, then kept"
    if when_down == "wait":
        # A reason of ours, not the gateway's: counted as waiting, with why and until when.
        with database.session() as session:
            assert session.execute(
                sa.text("SELECT DISTINCT stood_on, due, tries FROM deliveries")
            ).all() == [({"because": "feed"}, NOW + dt.timedelta(minutes=15), 1)]
            found = waits(session, session.get_one(Send, ident).dispatch, NOW)
            assert [(w.because, w.people, w.until) for w in found] == [
                ("feed", crowd_of, NOW + dt.timedelta(minutes=15))
            ]


def asked_by(session, database, url, people, **given):
    """A filler with one feed, and the values of so many people."""
    keeping.keep_feed(
        session,
        IDA,
        NOW,
        {"key": "sky", "url": url, "when_down": "leave_out", "keep_seconds": "0"} | given,
        frozenset({url.split("/")[2]}),
    )
    needs = Needs(frozenset({"feed.sky", "contact.first_name"}), {})
    return Filler.of(session, needs, zoneinfo.ZoneInfo("UTC"), frozenset({url.split("/")[2]})), [
        {"contact.first_name": f"P{n}"} for n in range(people)
    ]


def test_personal_feeds_are_asked_side_by_side(database):
    """Twelve people, each answer held until four questions are open at once: one after the other it
    would never end."""
    gate = threading.Barrier(4, timeout=10)

    class Held(BaseHTTPRequestHandler):
        def do_GET(self):
            gate.wait()
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b'"%s"' % self.path.split("=")[1].encode())

        def log_message(self, *_):
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Held)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    with database.session() as session:
        filler, flats = asked_by(
            session,
            database,
            f"http://127.0.0.1:{server.server_port}/?who={{{{ contact.first_name }}}}",
            12,
        )
    assert filler.complete_all(flats, NOW) == [None] * 12
    assert [flat["feed.sky"] for flat in flats] == [f"P{n}" for n in range(12)]
    server.shutdown()


def test_a_silent_feed_is_not_asked_for_everyone(database, weather):
    with database.session() as session:
        filler, flats = asked_by(session, database, f"{weather}/down", 50)
    wrong = filler.complete_all(flats, NOW)
    assert all(isinstance(problem, feeds.NoAnswer) for problem in wrong) and len(Weather.asked) == 1


def test_a_host_that_is_not_allowed_is_never_asked(database):
    from meadowrun.base.errors import Invalid

    with database.session() as session, pytest.raises(Invalid, match="MEADOWRUN_FEED_HOSTS"):
        keeping.keep_feed(
            session,
            IDA,
            NOW,
            {"key": "x", "url": "http://127.0.0.1:1/", "when_down": "wait"},
            frozenset({"weather.example"}),
        )
    with pytest.raises(ValueError, match="not among the hosts"):
        feeds.fetch("http://127.0.0.1:1/", 100, frozenset())
