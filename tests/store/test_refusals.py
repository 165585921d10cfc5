"""A gateway that refuses us is no bounce of anybody: nothing is lost, nobody is struck off, and the
send says what is wrong."""

import contextlib
import dataclasses
import datetime as dt
import json
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import sqlalchemy as sa
from aiosmtpd.controller import Controller

from meadowrun.base import clock, jobs
from meadowrun.gateways import sms
from meadowrun.people import keeping
from meadowrun.people.models import Contact
from meadowrun.sends.models import Send
from meadowrun.tracking import actions as tracking
from tests.conftest import NOW
from tests.ports import own_port
from tests.store.people import add, ready_send
from tests.store.sending import counts, go, run_all, segment, start, texting
from tests.store.work import number_of


class Door:
    """A mail server with fixed answers at each stage."""

    def __init__(self, **answers):
        self.answers, self.taken = answers, []

    async def handle_MAIL(self, server, session, envelope, address, options):
        if said := self.answers.get("mail"):
            return said
        envelope.mail_from = address
        return "250 OK"

    async def handle_RCPT(self, server, session, envelope, address, options):
        if said := self.answers.get(address.split("@")[0]):
            return said
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):
        self.taken += envelope.rcpt_tos
        return self.answers.get("data", "250 taken")


@contextlib.contextmanager
def door(database, settings, **answers):
    made = Door(**answers)
    port = own_port()
    control = Controller(made, hostname="127.0.0.1", port=port)
    control.start()
    try:
        jobs.set_context(
            jobs.Context(
                database, dataclasses.replace(settings, smtp_url=f"smtp://127.0.0.1:{port}")
            )
        )
        yield made
    finally:
        control.stop()


class Listening(Door):
    """Remembers how each address came, and the headers of each email."""

    def __init__(self, **answers):
        super().__init__(**answers)
        self.came = []

    async def handle_DATA(self, server, session, envelope):
        head = envelope.original_content.partition(b"\r\n\r\n")[0]
        self.came.append(
            (
                envelope.rcpt_tos[0],
                next(line for line in head.split(b"\r\n") if line.startswith(b"To: ")).decode(),
                envelope.smtp_utf8,
            )
        )
        return "250 taken"


@pytest.mark.parametrize(
    ("offered", "came", "outcomes"),
    [
        (
            True,
            [
                ("ann@post.example", "To: ann@post.example", False),
                ("bo@xn--bcher-kva.example", "To: bo@xn--bcher-kva.example", False),
                ("jürgen@bücher.example", "To: jürgen@bücher.example", True),
            ],
            {"delivered": 3},
        ),
        (
            False,
            [
                ("ann@post.example", "To: ann@post.example", False),
                ("bo@xn--bcher-kva.example", "To: bo@xn--bcher-kva.example", False),
            ],
            {"delivered": 2, "bad_address": 1},
        ),
    ],
)
def test_addresses_in_other_letters_go_as_the_server_takes_them_and_hold_nobody_up(
    database, settings, job_context, offered, came, outcomes
):
    with clock.at(NOW), database.session() as session:
        for address in ("jürgen@bücher.example", "ann@post.example", "bo@bücher.example"):
            add(session, NOW, address)
        ident = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id
    made, port = Listening(), own_port()
    control = Controller(made, hostname="127.0.0.1", port=port, enable_SMTPUTF8=offered)
    control.start()
    try:
        jobs.set_context(
            jobs.Context(
                database, dataclasses.replace(settings, smtp_url=f"smtp://127.0.0.1:{port}")
            )
        )
        start(database, settings, ident, 3)
        run_all(database, ident)
    finally:
        control.stop()
    assert sorted(made.came) == came
    assert counts(database, ident)[0] == outcomes
    with database.session() as session:
        notes = session.scalars(
            sa.text("SELECT note FROM deliveries WHERE outcome = 'bad_address'")
        ).all()
        assert notes == (
            [] if offered else ["the mail server accepts only ASCII characters before the @"]
        )


def send_to(database, *names):
    with clock.at(NOW), database.session() as session:
        for name in names:
            add(session, NOW, f"{name}@post.example", first_name=name.title())
        return ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id


def struck(database):
    with database.session() as session:
        return dict(
            session.execute(
                sa.select(
                    Contact.first_name,
                    Contact.soft_bounces + sa.case((Contact.bounced_at.is_not(None), 100), else_=0),
                ).order_by(Contact.id)
            ).all()
        )


@pytest.mark.parametrize(
    "said",
    ["530 5.7.0 authentication first", "550 5.7.1 you may not send here", "553 sender not known"],
)
def test_a_server_that_refuses_us_bounces_nobody(database, settings, job_context, said):
    ident = send_to(database, "ann", "bo")
    with door(database, settings, mail=said):
        start(database, settings, ident, 2)
        run_all(database, ident)
    assert counts(database, ident)[0] == {"waiting": 2} and struck(database) == {"Ann": 0, "Bo": 0}
    with database.session() as session:
        assert f"refuses our email: {said}" in session.get_one(Send, ident).trouble
    # Once it takes mail, everybody gets theirs, once.
    with door(database, settings) as open_door:
        run_all(database, ident)
    assert sorted(open_door.taken) == ["ann@post.example", "bo@post.example"]
    assert counts(database, ident)[0] == {"delivered": 2}


def test_only_a_refusal_of_the_address_strikes_it_off(database, settings, job_context):
    ident = send_to(database, "ann", "bo", "cy", "di")
    with door(
        database,
        settings,
        ann="550 5.1.1 nobody of that name",
        bo="552 5.2.2 full",
        cy="554 5.7.1 relay denied",
    ):
        start(database, settings, ident, 4)
        run_all(database, ident)
    assert counts(database, ident)[0] == {"bounced": 3, "delivered": 1}
    assert struck(database) == {"Ann": 100, "Bo": 1, "Cy": 1, "Di": 0}
    with database.session() as session:
        notes = session.scalars(
            sa.text("SELECT note FROM reactions WHERE kind = 'bounced' ORDER BY contact_id")
        ).all()
    assert notes == [
        "hard: 550 5.1.1 nobody of that name",
        "soft: 552 5.2.2 full",
        "soft: 554 5.7.1 relay denied",
    ]


@pytest.mark.parametrize(
    ("answers", "outcome", "soft"),
    [
        ({"data": "550 5.1.1 looks like a nuisance"}, "bounced", 1),
        ({"ann": "530 authentication required"}, "waiting", 0),
    ],
)
def test_neither_a_mail_that_is_disliked_nor_our_missing_password_strikes_anybody_off(
    database, settings, job_context, answers, outcome, soft
):
    ident = send_to(database, "ann")
    with door(database, settings, **answers):
        start(database, settings, ident, 1)
        run_all(database, ident)
    assert counts(database, ident)[0] == {outcome: 1} and struck(database) == {"Ann": soft}


class Falling(Door):
    """A server that fails itself at the end of its first emails, and still holds their
    envelopes."""

    async def handle_DATA(self, server, session, envelope):
        if self.answers["falls"]:
            self.answers["falls"] -= 1
            raise OSError("no space left on device")
        return await super().handle_DATA(server, session, envelope)


def test_a_server_that_fails_itself_is_no_bounce_of_anybody_and_holds_up_nobody(
    database, settings, job_context, monkeypatch
):
    ident = send_to(database, "ann", "bo", "cy")
    monkeypatch.setitem(globals(), "Door", Falling)
    with door(database, dataclasses.replace(settings, smtp_connections=1), falls=1) as server:
        start(database, settings, ident, 3)
        run_all(database, ident)
        assert counts(database, ident)[0] == {"deferred": 1, "delivered": 2}
        assert struck(database) == {"Ann": 0, "Bo": 0, "Cy": 0}
        with database.session() as session:
            assert not session.get_one(Send, ident).trouble
            note = session.scalar(sa.text("SELECT note FROM deliveries WHERE outcome = 'deferred'"))
        assert note.startswith("500") and len(server.taken) == 2


def test_the_fifth_soft_bounce_in_a_row_strikes_off(database, settings, job_context):
    ident = send_to(database, "ann")
    with door(database, settings):
        start(database, settings, ident, 1)
        run_all(database, ident)
    with clock.at(NOW), database.session() as session:
        ann = session.scalars(sa.select(Contact)).one()
        sent = number_of(database, ident, ann.id)
        for _ in range(4):
            keeping.count_bounces(session, NOW, [], [ann.id])
        session.refresh(ann)
        assert (ann.soft_bounces, ann.bounced_at) == (4, None)
        tracking.react(session, NOW, sent, ann.id, "opened", machine=True)
        session.refresh(ann)
        assert ann.soft_bounces == 4
        tracking.react(session, NOW, sent, ann.id, "clicked", 0)
        session.refresh(ann)
        assert ann.soft_bounces == 0
        for _ in range(5):
            keeping.count_bounces(session, NOW, [], [ann.id])
        session.refresh(ann)
        assert (ann.soft_bounces, ann.bounced_at) == (5, NOW)


@contextlib.contextmanager
def web_gateway(code):
    """A server that answers everything with one code."""
    asked = []

    class Answer(BaseHTTPRequestHandler):
        def do_POST(self):
            asked.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            self.send_response(code)
            self.end_headers()

        def log_message(self, *words):
            pass

    server = HTTPServer(("127.0.0.1", 0), Answer)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", asked
    finally:
        server.shutdown()
        server.server_close()


@pytest.mark.parametrize(
    ("code", "outcome", "says"),
    [
        (404, "waiting", "refuses our messages: 404"),
        (401, "waiting", "refuses our messages: 401"),
        (402, "waiting", "refuses our messages: 402"),
        (429, "deferred", ""),
        (503, "deferred", ""),
        (400, "bounced", ""),
        (202, "delivered", ""),
    ],
)
def test_what_a_gateway_for_texts_answers(database, settings, job_context, code, outcome, says):
    with clock.at(NOW), database.session() as session:
        ident = texting(session)
    with web_gateway(code) as (address, asked):
        theirs = dataclasses.replace(settings, sms_url=address)
        assert (sms.reachable(theirs) is None) == (code == 202)
        jobs.set_context(jobs.Context(database, theirs))
        start(database, settings, ident, 3)
        run_all(database, ident)
    found = counts(database, ident)[0]
    assert (
        found[outcome] == 3
        and found.get("bounced", 0) == (3 if outcome == "bounced" else 0)
        and len(asked) > 1
    )
    with database.session() as session:
        problem = session.get_one(Send, ident).trouble
    assert says in problem if says else problem == ""


def test_without_a_gateway_for_texts_nobody_counts_as_written_to(database, settings, job_context):
    """Everyone waits, and the send says why; once one is named, they get it."""
    with clock.at(NOW), database.session() as session:
        ident = texting(session)
    none = dataclasses.replace(settings, sms_url="")
    assert "none can be sent yet" in sms.reachable(none)
    # One that was set up before may have taken what is in doubt.
    assert sms.gateway(none).took(["a"]) == {}
    jobs.set_context(jobs.Context(database, none))
    start(database, settings, ident, 3)
    run_all(database, ident)
    found, send = counts(database, ident)
    assert found["waiting"] == 3 and "delivered" not in found
    assert send.trouble == "No gateway for text messages is set up."
    with web_gateway(202) as (address, asked):
        jobs.set_context(jobs.Context(database, dataclasses.replace(settings, sms_url=address)))
        go(database, NOW + dt.timedelta(minutes=10))
    assert counts(database, ident)[0]["delivered"] == 3 and len(asked) == 3
