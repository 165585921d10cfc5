"""Asking at addresses that others named: nothing inside this network, nothing that leads on, and no
more devices than somebody has."""

import contextlib
import socket
import threading
import time
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
import sqlalchemy as sa
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec

from meadowrun.base import clock
from meadowrun.base.errors import GatewayUnavailable, Invalid
from meadowrun.core.webpush import encode
from meadowrun.gateways import outgoing, sms
from meadowrun.gateways.smtp import SmtpGateway
from meadowrun.tracking import actions
from tests.conftest import NOW
from tests.store.people import add

INNER = [
    "http://127.0.0.1:5432/",
    "http://127.1/",
    "http://2130706433/",
    "http://0x7f000001/",
    "http://0177.0.0.1/",
    "http://localhost/",
    "http://LOCALHOST./",
    "http://[::1]/",
    "http://[::ffff:127.0.0.1]/",
    "http://[::ffff:7f00:1]/",
    "http://169.254.169.254/latest",
    "http://10.0.0.1/",
    "http://172.16.3.4/",
    "http://192.168.1.1/",
    "http://100.64.0.1/",
    "http://0.0.0.0/",
    "http://[fe80::1]/",
    "http://[fd00::1]/",
    "http://[64:ff9b::7f00:1]/",
    "http://[2002:7f00:1::]/",
    "http://224.0.0.1/",
    "http://255.255.255.255/",
    "http://database/",
    "http://db.internal/",
    "http://printer.local/",
]
WRONG = [
    "https://good.example@127.0.0.1/",
    "https://127.0.0.1@good.example/",
    "https://a:b@good.example/",
    "ftp://good.example/",
    "file:///etc/passwd",
    "https:///x",
    "//good.example/",
    "https://good.example\\@127.0.0.1/",
    "https://good .example/",
    "https://good.example:99999/",
    "https://[::1",
    "gopher://good.example/",
    "https://bücher.example/",
    "javascript:1",
    "",
]


@pytest.mark.parametrize("address", INNER)
def test_nothing_inside_this_network(address):
    # What is written as a number, or as a name of machines nearby, is told as it is read.
    assert "inside this network" in (outgoing.problem(address) or "")
    with pytest.raises(outgoing.Refused, match="inside this network"):
        outgoing.ask("GET", address, timeout=1)


@pytest.mark.parametrize("address", WRONG)
def test_nothing_that_is_no_plain_address(address):
    assert outgoing.problem(address)
    with pytest.raises(outgoing.Refused):
        outgoing.ask("GET", address, timeout=1)


def test_what_the_settings_name_is_asked_at_this_port_only():
    assert (
        outgoing.problem("http://127.0.0.1:81/", {"127.0.0.1:80"})
        and outgoing.problem("http://127.0.0.1/", {"127.0.0.1:80"}) is None
    )
    assert outgoing.problem("http://127.0.0.1:80@169.254.169.254/", {"127.0.0.1:80"})


def test_a_name_that_leads_inside_is_refused_whatever_else_it_leads_to(monkeypatch):
    def looked_up(host, port, **_):
        return [
            (socket.AF_INET, socket.SOCK_STREAM, 6, "", (number, port))
            for number in ("93.184.216.34", "127.0.0.1")
        ]

    monkeypatch.setattr(socket, "getaddrinfo", looked_up)
    with pytest.raises(outgoing.Refused, match="leads to a machine inside"):
        outgoing.ask("GET", "http://both.example/", timeout=1)


def test_the_machine_that_was_judged_is_the_one_that_is_asked(monkeypatch):
    """A name that changes its mind between judging and asking reaches nothing else."""
    asked = []

    def connected(where, *_, **__):
        asked.append(where)
        raise OSError("no")

    monkeypatch.setattr(outgoing, "_judged", lambda host, port: "192.0.2.1")
    monkeypatch.setattr("urllib3.util.connection.create_connection", connected)
    with pytest.raises(OSError, match="nothing answers there"):
        outgoing.ask("GET", "http://changing.example/", timeout=1)
    assert asked == [("192.0.2.1", 80)]


@pytest.fixture
def server():
    """Leads on to another address of itself, and notes what it was asked."""
    asked = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self):
            asked.append((self.command, self.path, self.headers["Authorization"]))
            self.send_response(302)
            self.send_header("Location", "/elsewhere")
            self.end_headers()

        do_GET = do_POST

        def log_message(self, *_):
            pass

    made = HTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=made.serve_forever, daemon=True).start()
    yield f"127.0.0.1:{made.server_port}", asked
    made.shutdown()


def test_nothing_is_followed(server):
    where, asked = server
    answer = outgoing.ask(
        "POST", f"http://{where}/push", b"x", {"Authorization": "vapid secret"}, inner={where}
    )
    assert (answer.status, answer.leads_to) == (302, "/elsewhere") and asked == [
        ("POST", "/push", "vapid secret")
    ]


def test_gateways_send_nothing_of_ours_elsewhere(server):
    """A gateway that has moved is told to nobody: its answer is about us, and nobody's message is
    lost by it."""
    where, asked = server
    with pytest.raises(GatewayUnavailable, match="refuses our messages: 302"):
        list(
            sms.HttpGateway(f"http://{where}").hand_over(
                [sms.Text("k", 1, "Us", "+447700900101", "Hello")]
            )
        )
    assert (
        sms.HttpGateway(f"http://{where}").took(["k"]) == {}
        and SmtpGateway("smtp://127.0.0.1:1", f"http://{where}/").took(["<k>"]) == {}
    )
    assert [path for _, path, _ in asked] == ["/messages", "/taken", "/"]


@pytest.fixture
def slow():
    """A server that sends one byte after the other, for ever."""
    listener = socket.create_server(("127.0.0.1", 0))

    def drip():
        with contextlib.suppress(OSError):
            while True:
                talk, _ = listener.accept()
                talk.recv(10_000)
                talk.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 1000000\r\n\r\n")
                with contextlib.suppress(OSError):
                    while True:
                        talk.sendall(b"x")
                        time.sleep(0.05)

    threading.Thread(target=drip, daemon=True).start()
    yield f"127.0.0.1:{listener.getsockname()[1]}"
    listener.close()


def test_an_answer_that_drips_or_never_ends_holds_nobody(slow):
    began = time.monotonic()
    with pytest.raises(TimeoutError):
        outgoing.ask("GET", f"http://{slow}/", timeout=0.6, inner={slow}, most=10_000)
    with pytest.raises(outgoing.TooLong):
        outgoing.ask("GET", f"http://{slow}/", timeout=5, inner={slow}, most=5)
    assert time.monotonic() - began < 10
    assert outgoing.ask("GET", f"http://{slow}/", timeout=5, inner={slow}).body == b"", (
        "whoever wants no body reads none"
    )


def subscription(endpoint="https://push.example/1", seed=1):
    key = (
        ec.derive_private_key(seed, ec.SECP256R1())
        .public_key()
        .public_bytes(serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
    )
    return {
        "endpoint": endpoint,
        "keys": {"p256dh": encode(key), "auth": encode(bytes([seed] * 16))},
    }


@pytest.mark.parametrize(
    "endpoint",
    [
        "http://push.example/1",
        "https://127.0.0.1:5432/",
        "https://[::1]/",
        "https://169.254.169.254/",
        "https://localhost/",
        "https://user@push.example/",
        "http://127.0.0.1.evil.example/",
        "http://localhost.evil.example/",
    ],
)
def test_a_browser_cannot_name_what_it_likes(database, endpoint):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example").id
        with pytest.raises(Invalid):
            actions.subscribe_device(session, NOW, person, subscription(endpoint))


def test_nobody_takes_over_the_browser_of_somebody_else(database):
    with clock.at(NOW), database.session() as session:
        ann, bo = (add(session, NOW, f"{name}@post.example").id for name in ("ann", "bo"))
        actions.subscribe_device(session, NOW, ann, subscription())
        with pytest.raises(Invalid, match="somebody else"):
            actions.subscribe_device(session, NOW, bo, subscription(seed=2))
        assert session.execute(sa.text("SELECT contact_id FROM push_devices")).scalar() == ann
        # The same browser, used by another person, knows its keys.
        actions.subscribe_device(session, NOW, bo, subscription())
        assert session.execute(sa.text("SELECT contact_id FROM push_devices")).scalar() == bo


def test_a_person_has_so_many_devices(database):
    with clock.at(NOW), database.session() as session:
        person = add(session, NOW, "ann@post.example").id
        for number in range(14):
            actions.subscribe_device(
                session, NOW, person, subscription(f"https://push.example/{number}", number + 1)
            )
        rows = (
            session.execute(
                sa.text("SELECT endpoint FROM push_devices WHERE gone_at IS NULL ORDER BY id")
            )
            .scalars()
            .all()
        )
        assert rows == [f"https://push.example/{number}" for number in range(4, 14)]
