"""Webhook steps: told after the commit, signed, under a key; told again where that is asked or
nothing answers there; given up, at rest, killed half way; people go on by the answer."""

import collections
import dataclasses
import datetime as dt
import hashlib
import hmac
import http.server
import json
import threading

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import Invalid
from meadowrun.campaigns.models import Campaign
from meadowrun.core.journeys import edit
from meadowrun.core.journeys.steps import (
    BranchStep,
    ExitStep,
    Path,
    Span,
    Start,
    WaitStep,
    WebhookStep,
)
from meadowrun.journeys import actions, calling, queries
from meadowrun.journeys.models import JourneyCall
from meadowrun.people.wholly import erase, everything
from meadowrun.tracking.taking import take_events
from tests.conftest import NOW
from tests.store.journeys import advance, started_by
from tests.store.people import IDA, kinds, many, ready_send

MINUTE = dt.timedelta(minutes=1)


class Server:
    """Another server: keeps what it is told, and answers as it is told to."""

    def __init__(self):
        self.got, self.answers = [], collections.deque()
        outer = self

        class Handler(http.server.BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                outer.got.append((dict(self.headers), body))
                status, headers, text = (
                    outer.answers.popleft() if outer.answers else (200, {}, "ok")
                )
                self.send_response(status)
                for name, value in headers.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(text)))
                self.end_headers()
                self.wfile.write(text.encode())

            def log_message(self, *_):
                pass

        self.server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.server.server_port}/hook"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def close(self):
        """Nobody is there any more."""
        if self.server is not None:
            self.server.shutdown()
            self.server.server_close()
            self.server = None


@pytest.fixture
def server():
    made = Server()
    yield made
    made.close()


@pytest.fixture
def inside(settings, server):
    """The server may be asked, though it lies inside this network."""
    machine = frozenset({server.address.split("/")[2]})
    return dataclasses.replace(settings, inner_hosts=machine)


@pytest.fixture
def world(database, job_context, keeper):
    with clock.at(NOW), database.session() as session:
        many(session, NOW, 60)
        kinds(session)
        return ready_send(session, NOW, {"in": [], "out": []}).campaign_id


def running(database, world, inside, *steps):
    with clock.at(NOW), database.session() as session:
        made = actions.create(session, IDA, NOW, session.get_one(Campaign, world), "Told")

        def built(itinerary):
            itinerary = started_by(itinerary, Start("event", "visited"), "any", 30)
            for step in steps:
                itinerary = edit.add(itinerary, step)
            return itinerary

        actions.write(session, IDA, NOW, made, made.version, "wrote", built)
        actions.start(session, IDA, NOW, made, made.version, inside.inner)
        return made.id


def visits(database, at, *contacts):
    with clock.at(at), database.session() as session:
        rows = [
            {"event": "visited", "contact": one, "at": at.isoformat(), "details": {"night": "5th"}}
            for one in contacts
        ]
        take_events(session, at, "t", rows)
    advance(database, at)


def calls_at(database, inside, at):
    with clock.at(at):
        made = 0
        while some := calling.call_due(database, inside, at):
            made += some
    advance(database, at)
    return made


def reasons(database, ident, contact):
    with database.session() as session:
        entry = queries.entry(session, ident, contact)
        return [one.because for one in queries.moves(session, entry.id)]


def test_it_is_told_signed_and_people_go_on(database, world, server, inside):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    visits(database, NOW, 1)
    assert server.got == [] and reasons(database, ident, 1) == ["start"]
    assert calls_at(database, inside, NOW + MINUTE) == 1
    headers, body = server.got[0]
    told = json.loads(body)
    assert told["contact"]["email"] == "p1@post.example" and told["event"] == {"night": "5th"}
    assert told["journey"] == {"id": ident, "name": "Told"}
    key = calling.signing_key(inside)
    signed = headers["Meadowrun-Moment"].encode() + b"." + body
    assert headers["Meadowrun-Signature"] == hmac.new(key, signed, hashlib.sha256).hexdigest()
    assert reasons(database, ident, 1) == ["start", "answered"]
    assert calls_at(database, inside, NOW + 2 * MINUTE) == 0


LONG = WaitStep("", Span(9, "week"))


def test_where_it_asks_for_that_it_is_told_again_later_under_the_same_key(
    database, world, server, inside
):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    server.answers.extend([(429, {"Retry-After": "90"}, ""), (503, {}, "")])
    visits(database, NOW, 1)
    assert calls_at(database, inside, NOW) == 1
    assert calls_at(database, inside, NOW + MINUTE) == 0
    assert calls_at(database, inside, NOW + 2 * MINUTE) == 1
    # After the second try five minutes pass.
    assert calls_at(database, inside, NOW + 6 * MINUTE) == 0
    assert calls_at(database, inside, NOW + 7 * MINUTE) == 1
    assert len({headers["Idempotency-Key"] for headers, _ in server.got}) == 1
    assert reasons(database, ident, 1)[-1] == "answered"


@pytest.mark.parametrize(("failed", "state"), [("go_on", "inside"), ("exit", "left")])
def test_where_it_refuses_they_go_on_or_exit(database, world, server, inside, failed, state):
    ident = running(database, world, inside, WebhookStep("", server.address, failed), LONG)
    server.answers.append((404, {}, "nothing here"))
    visits(database, NOW, 1)
    calls_at(database, inside, NOW)
    with database.session() as session:
        assert queries.entry(session, ident, 1).state == state
    assert reasons(database, ident, 1)[-1] == "failed"


def test_where_nobody_is_there_it_is_given_up_after_six_tries(database, world, server, inside):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    server.close()
    visits(database, NOW, 1)
    tried = sum(
        calls_at(database, inside, NOW + dt.timedelta(minutes=minutes))
        for minutes in (0, 1, 6, 36, 156, 516)
    )
    assert tried == 6 and reasons(database, ident, 1)[-1] == "failed"


def test_after_twenty_failures_in_a_row_the_step_rests_for_an_hour(database, world, server, inside):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    server.answers.extend([(400, {}, "")] * 60)
    visits(database, NOW, *range(1, 61))
    made = calls_at(database, inside, NOW)
    # What was in hand when the twentieth failed is still made.
    assert 20 <= made <= 40 and len(server.got) == made
    with database.session() as session:
        assert "failed 20 times in a row" in queries.journey(session, ident).problem
    assert calls_at(database, inside, NOW + 30 * MINUTE) == 0
    server.answers.clear()
    assert calls_at(database, inside, NOW + 61 * MINUTE) == 60 - made
    with database.session() as session:
        assert queries.journey(session, ident).problem == ""


def test_a_call_whose_maker_was_killed_is_made_again_under_the_same_key(
    database, world, server, inside
):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    visits(database, NOW, 1)
    with database.session() as session:
        claimed = calling._claimed(session, NOW)
    calling.make(claimed[0], b"key", inside.inner, NOW)
    # Nobody wrote down what came back.
    assert calls_at(database, inside, NOW + MINUTE) == 0
    assert calls_at(database, inside, NOW + 3 * MINUTE) == 1
    assert len(server.got) == 2
    assert len({headers["Idempotency-Key"] for headers, _ in server.got}) == 1
    assert reasons(database, ident, 1) == ["start", "answered"]


def test_nobody_is_told_of_whoever_was_erased_or_taken_out(database, world, server, inside):
    ident = running(database, world, inside, WebhookStep("", server.address), LONG)
    visits(database, NOW, 1, 2, 3)
    with clock.at(NOW), database.session() as session:
        erase(session, IDA, NOW, 1)
        actions.take_out(session, IDA, NOW, queries.journey(session, ident), 2)
    calls_at(database, inside, NOW + MINUTE)
    assert [json.loads(body)["contact"]["id"] for _, body in server.got] == [3]


def test_what_another_server_said_of_somebody_goes_when_they_are_erased(
    database, world, server, inside
):
    running(database, world, inside, WebhookStep("", server.address), LONG)
    server.answers.append((200, {}, "their number is 7"))
    visits(database, NOW, 1)
    calls_at(database, inside, NOW)
    with clock.at(NOW), database.session() as session:
        assert everything(session, 1)["journey_calls"][0]["answer"] == "their number is 7"
        erase(session, IDA, NOW, 1)
    with database.session() as session:
        assert session.scalars(sa.select(JourneyCall)).all() == []


def test_a_machine_inside_this_network_is_not_called(database, world, settings):
    with pytest.raises(Invalid):
        running(database, world, settings, WebhookStep("", "http://10.0.0.1/hook"), LONG)


def test_two_workers_tell_nobody_twice(database, world, server, inside):
    running(database, world, inside, WebhookStep("", server.address), LONG)
    visits(database, NOW, *range(1, 41))

    def work():
        while calling.call_due(database, inside, NOW):
            pass

    several = [threading.Thread(target=work) for _ in range(4)]
    for one in several:
        one.start()
    for one in several:
        one.join()
    told = [json.loads(body)["contact"]["id"] for _, body in server.got]
    assert sorted(told) == list(range(1, 41))
    with database.session() as session:
        assert set(session.scalars(sa.select(JourneyCall.state))) == {"done"}


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("90", 90),
        ("Mon, 23 Nov 2026 14:05:00 GMT", 300),
        ("Mon, 23 Nov 2026 13:00:00 GMT", 1),
        ("999999999", 86_400),
        ("soon", None),
        ("", None),
    ],
)
def test_when_another_server_wishes_to_be_asked_again(text, seconds):
    found = calling.wished(text, NOW)
    assert found == (None if seconds is None else dt.timedelta(seconds=seconds))


def test_the_task_makes_them_and_asks_no_machine_inside_this_network(
    database, world, server, inside
):
    """Its own settings do not name the server: by them it may not be asked."""
    running(database, world, inside, WebhookStep("", server.address), LONG)
    visits(database, NOW, 1)
    with clock.at(NOW):
        jobs.run_here("journeys.call")
    with database.session() as session:
        made = session.scalars(sa.select(JourneyCall)).one()
        assert (made.state, made.tries) == ("failed", 1)
        assert "inside this network" in made.said
    assert server.got == []


def test_what_is_answered_takes_people_one_way_or_the_other(database, world, server, inside):
    """An object, something that is no object, and no JSON at all; what the event said is kept."""
    gold = Path("", (LONG,), detail="answer_level", compare="is", value="Gold")
    ident = running(
        database,
        world,
        inside,
        WebhookStep("", server.address),
        BranchStep("", (gold, Path("", (ExitStep(""),)))),
    )
    for text in ('{"Level": "go\\u0000ld", "of": {"x": 1}, "n": 3}', '["gold"]', "gold"):
        server.answers.append((200, {}, text))
    for contact in (1, 2, 3):
        visits(database, NOW, contact)
        calls_at(database, inside, NOW + contact * MINUTE)
    with database.session() as session:
        found = [queries.entry(session, ident, contact) for contact in (1, 2, 3)]
        assert [one.state for one in found] == ["inside", "left", "left"]
        assert found[0].details == {"night": "5th", "answer_level": "gold", "answer_n": 3}
        assert found[2].details == {"night": "5th"}


def test_an_answer_is_not_told_to_the_next_as_what_happened(database, world, server, inside):
    running(
        database,
        world,
        inside,
        WebhookStep("", server.address),
        WebhookStep("", server.address),
    )
    server.answers.append((200, {}, '{"level": "gold"}'))
    visits(database, NOW, 1)
    calls_at(database, inside, NOW + MINUTE)
    calls_at(database, inside, NOW + 2 * MINUTE)
    assert [json.loads(body)["event"] for _, body in server.got] == [{"night": "5th"}] * 2
