"""What people write back: passed on as it came, counted, and told apart from what programs write;
and unsubscribing by an email."""

import email
import re
import smtplib

import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.gateways.smtp import SmtpGateway
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import rules
from meadowrun.outgoing.models import Reaction
from meadowrun.people.models import Consent
from meadowrun.sends.models import Send
from meadowrun.tracking import inbound
from meadowrun.village.post import post_office
from meadowrun.village.store import Store
from tests.conftest import NOW, settings_for
from tests.ports import own_port
from tests.store.people import IDA
from tests.store.sending import run_all, started
from tests.store.web import sign_in


@pytest.fixture
def here(database, tmp_path, job_context):
    """A mail server, and our own that takes what comes back: the store of the first, and the
    settings that name both."""
    store = Store(tmp_path / "village.db")
    post, back = own_port(), own_port()
    settings = settings_for(
        database.url,
        MEADOWRUN_SMTP_URL=f"smtp://127.0.0.1:{post}",
        MEADOWRUN_INBOUND=f"127.0.0.1:{back}",
    )
    jobs.set_context(jobs.Context(database, settings))
    office, listener = post_office(store, post), inbound.listener(database, settings)
    office.start()
    listener.start()
    yield store, settings
    listener.stop()
    office.stop()


@pytest.fixture
def sent(database, here):
    """A send to two people that went; what they write back comes to us first. Gives the number of
    the send, and their emails."""
    store, settings = here
    with clock.at(NOW), database.session() as session:
        rules.take_mail(session, IDA, NOW, True)
    ident = started(database, settings, 2)
    with database.session() as session:
        sender = session.get_one(Sender, session.get_one(Send, ident).sender_id)
        sender.reply_to = "desk@farrowhill.example"
    run_all(database, ident)
    rows = store.rows("SELECT raw FROM mails ORDER BY address")
    return ident, [email.message_from_bytes(row["raw"]) for row in rows]


def write(settings, to, body="See you there! – Žofie", **headers):
    """An email to an address of ours, as somebody's server brings it; what our server answers."""
    raw = "\r\n".join(
        [
            "From: Žofie <p1@post.example>",
            f"To: {to}",
            "Subject: =?utf-8?q?Re=3A_Hello?=",
            *(f"{name.replace('_', '-')}: {value}" for name, value in headers.items()),
            "Content-Type: text/plain; charset=utf-8",
            "",
            body,
            "",
        ]
    ).encode()
    with smtplib.SMTP(*settings.inbound, timeout=10) as server:
        server.ehlo()
        server.mail("p1@post.example", ["SMTPUTF8", "BODY=8BITMIME"])
        code, _ = server.rcpt(to)
        return (code if code >= 400 else server.data(raw)[0]), raw


def reactions(database, kind="replied"):
    with database.session() as session:
        rows = session.scalars(sa.select(Reaction).where(Reaction.kind == kind))
        return [(row.contact_id, row.machine) for row in rows]


def passed_on(store):
    rows = store.rows("SELECT raw FROM mails WHERE address = 'desk@farrowhill.example'")
    return [row["raw"] for row in rows]


def test_a_reply_is_counted_and_passed_on_as_it_came(client, database, here, sent):
    store, settings = here
    ident, (mail, _) = sent
    to = email.utils.parseaddr(mail["Reply-To"])[1]
    assert to.startswith("reply+") and to.endswith("@mail.example")
    code, raw = write(settings, to)
    assert code == 250
    assert reactions(database) == [(1, False)]
    (came,) = passed_on(store)
    # Byte for byte, so that the desk can answer, and the writer's own signature stays true.
    assert came.rstrip() == raw.rstrip()
    with clock.at(NOW):
        sign_in(client)
        page = client.get(f"/results/{ident}").text
        assert re.search(r'data-count="replied">1</b> replied', page)
        assert "First1" in client.get(f"/results/{ident}/people/replied").text
        assert "replied to “" in client.get("/people/1").text


@pytest.mark.parametrize(
    "headers",
    [
        {"Auto_Submitted": "auto-replied"},
        {"Auto_Submitted": "auto-generated; owner"},
        {"Precedence": "bulk"},
        {"X_Autoreply": "yes"},
    ],
)
def test_what_a_program_writes_is_passed_on_to_nobody(database, here, sent, headers):
    store, settings = here
    to = email.utils.parseaddr(sent[1][0]["Reply-To"])[1]
    assert write(settings, to, **headers)[0] == 250
    assert reactions(database) == [(1, True)]
    assert passed_on(store) == []


def test_auto_submitted_no_is_a_person(database, here, sent):
    store, settings = here
    to = email.utils.parseaddr(sent[1][0]["Reply-To"])[1]
    write(settings, to, Auto_Submitted="no")
    assert reactions(database) == [(1, False)]
    assert len(passed_on(store)) == 1


def test_what_goes_in_a_circle_ends(database, here, sent):
    store, settings = here
    to = email.utils.parseaddr(sent[1][0]["Reply-To"])[1]
    hops = "\r\nReceived: ".join(f"from a by b; {n}" for n in range(31))
    assert write(settings, to, Received=hops)[0] == 250
    assert (reactions(database), passed_on(store)) == ([], [])


def test_what_cannot_be_passed_on_comes_again_later(database, here, sent, monkeypatch):
    store, settings = here
    to = email.utils.parseaddr(sent[1][0]["Reply-To"])[1]

    def away(self):
        raise GatewayUnavailable("The mail server does not answer.")

    with monkeypatch.context() as patched:
        patched.setattr(SmtpGateway, "_connect", away)
        assert write(settings, to)[0] == 451
    # Their server tries again: it is counted once.
    assert reactions(database) == []
    assert write(settings, to)[0] == 250
    assert reactions(database) == [(1, False)]
    assert len(passed_on(store)) == 1


def test_an_email_unsubscribes(database, here, sent):
    _, settings = here
    ways = sent[1][1]["List-Unsubscribe"]
    assert ways.startswith("<http://127.0.0.1:1/u/")
    to = ways.split("<mailto:")[1].rstrip(">")
    assert write(settings, to, "")[0] == 250
    assert reactions(database, "unsubscribed") == [(2, False)]
    with database.session() as session:
        consent = session.scalars(sa.select(Consent).where(Consent.contact_id == 2)).one()
        assert (consent.agreed, consent.how) == (False, "by an email to unsubscribe, from “A send”")


@pytest.mark.parametrize("use", ["reply", "leave", "bounce", "desk", ""])
def test_an_address_that_is_none_of_ours(database, here, use):
    _, settings = here
    for to in (f"{use}+made-up-token-of-no-use@mail.example", f"{use}@mail.example"):
        assert write(settings, to)[0] in (550, 553)


def test_a_token_is_for_one_use(database, here, sent):
    """Whoever replies can neither unsubscribe nor bounce anybody with what they know."""
    _, settings = here
    token = email.utils.parseaddr(sent[1][0]["Reply-To"])[1].split("+")[1]
    assert write(settings, f"leave+{token}")[0] == 550
    assert write(settings, f"bounce+{token}")[0] == 550


def test_replies_go_to_the_sender_unless_they_come_here_first(database, here):
    store, settings = here
    ident = started(database, settings, 1)
    run_all(database, ident)
    mail = email.message_from_bytes(store.rows("SELECT raw FROM mails")[0]["raw"])
    assert mail["Reply-To"] is None
    assert "mailto" not in mail["List-Unsubscribe"]


def test_the_switch_on_the_page(client, database, still):
    sign_in(client)
    for takes in (True, False):
        client.post("/sending/replies", data={"takes": "yes" if takes else "no"})
        with database.session() as session:
            assert rules.rules(session).takes_mail is takes
