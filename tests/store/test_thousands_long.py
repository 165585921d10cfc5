"""What must hold in thousands of cases: the last room is given once, and every email that leaves is
whole, as another program reads it."""

import email
import email.policy
import re
import threading

import dkim
import pytest
import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.core.guardrails.caps import Cap
from meadowrun.gateways.dns import Resolver
from meadowrun.messages import mail_keys
from meadowrun.messages.senders import Sender
from meadowrun.outgoing import caps, claims, rules
from meadowrun.sends import actions
from meadowrun.sends.models import Send
from meadowrun.village.names import name_server
from meadowrun.village.post import post_office
from meadowrun.village.store import Store
from tests.conftest import NOW, settings_for
from tests.ports import own_port
from tests.store.people import IDA, many, ready_send
from tests.store.sending import counts, run_all, segment, start, started
from tests.store.work import work

pytestmark = pytest.mark.long
ROUNDS, PEOPLE, MAILS = 10, 1000, 10_000


def test_the_last_room_is_given_once_in_ten_thousand_races(
    database, settings, job_context, keeper, monkeypatch, capsys
):
    """Ten rounds of two sends to the same thousand people, one email a day: four threads hand both
    over in small batches at once, so that they meet at the same people all the time."""
    monkeypatch.setattr(claims, "BATCH", 7)
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        caps.save(session, IDA, NOW, Cap(1, 1, "day"))
        who = {"in": [{"segment": segment(session).id}], "out": []}
    races = 0
    for day in range(ROUNDS):
        now = NOW.replace(day=1 + day, month=12)
        with clock.at(now), database.session() as session:
            sends = [ready_send(session, now, who).id for _ in range(2)]
        for ident in sends:
            with clock.at(now), database.session() as session:
                send = session.get_one(Send, ident)
                actions.start(session, IDA, now, send, settings.public_url, PEOPLE, send.version)
            with clock.at(now):
                jobs.run_here("sends.take", send_id=ident)
        before = len(keeper.letters)

        def deliver(now=now):
            with clock.at(now):
                for _ in range(120):
                    jobs.run_here("outgoing.deliver")

        workers = [threading.Thread(target=deliver) for _ in range(4)]
        for one in workers:
            one.start()
        for one in workers:
            one.join(300)
        with clock.at(now):
            work(database)
        got = [letter.to for letter in keeper.letters[before:]]
        assert len(got) == len(set(got)), "somebody got two on one day"
        races += len(got)
        with database.session() as session:
            for ident in sends:
                send = session.get_one(Send, ident)
                if send.state == "running":
                    with clock.at(now):
                        actions.stop(session, IDA, now, send)
    with capsys.disabled():
        print(f"\n{races} races for the last room, nobody had two")
    assert races == ROUNDS * PEOPLE


def test_ten_thousand_emails_are_whole(database, tmp_path, job_context, capsys):
    store = Store(tmp_path / "village.db")
    names, post = own_port(), own_port()
    answers, office = name_server(store, names), post_office(store, post)
    answers.start_thread()
    office.start()
    settings = settings_for(
        database.url,
        MEADOWRUN_DNS=f"127.0.0.1:{names}",
        MEADOWRUN_SMTP_URL=f"smtp://127.0.0.1:{post}",
    )
    jobs.set_context(jobs.Context(database, settings))
    try:
        with clock.at(NOW), database.session() as session:
            rules.take_mail(session, IDA, NOW, True)
        ident = started(database, settings, MAILS)
        with database.session() as session:
            send = session.get_one(Send, ident)
            domain = session.get_one(Sender, send.sender_id).address.rpartition("@")[2]
            for key in mail_keys.make(session, IDA, NOW, settings, domain):
                mail_keys.use(session, IDA, NOW, key.id)
                store.publish(key.host, "TXT", key.record)
        run_all(database, ident)
        assert counts(database, ident)[0] == {"delivered": MAILS}
        published = {}
        asked = Resolver(settings)

        def record(name, timeout=5):
            name = name.decode().rstrip(".")
            if name not in published:
                published[name] = asked.texts(name)[0].encode()
            return published[name]

        rows = store.rows("SELECT address, raw FROM mails")
        assert len({row["address"] for row in rows}) == MAILS
        tokens, verified = set(), 0
        for row in rows:
            mail = email.message_from_bytes(row["raw"], policy=email.policy.default)
            assert not mail.defects
            for name in ("From", "To", "Subject", "Date", "Message-ID", "List-Unsubscribe"):
                assert len(mail.get_all(name)) == 1, name
            assert mail["To"] == row["address"]
            number = re.match(r"p(\d+)@", row["address"])[1]
            assert mail["Subject"] == f"Hello First{number}"
            assert f"Dear First{number}" in mail.get_body(("plain",)).get_content()
            assert f"Dear First{number}" in mail.get_body(("html",)).get_content()
            assert mail["List-Unsubscribe-Post"] == "List-Unsubscribe=One-Click"
            tokens.add(re.match(r"<http://127\.0\.0\.1:1/u/([\w-]+)>", mail["List-Unsubscribe"])[1])
            # One of ten by the other program, which takes its time.
            if int(number) % 10 == 0:
                assert dkim.DKIM(row["raw"]).verify(0, dnsfunc=record)
                assert dkim.DKIM(row["raw"]).verify(1, dnsfunc=record)
                verified += 1
        assert len(tokens) == MAILS
    finally:
        office.stop()
        answers.stop()
    with capsys.disabled():
        print(f"\n{MAILS} emails read, the signatures of {verified} verified")


@pytest.fixture
def one_click(client, database, settings, job_context, keeper):
    """A send to a thousand people that went: their letters."""
    with clock.at(NOW), database.session() as session:
        many(session, NOW, PEOPLE)
        ident = ready_send(session, NOW, {"in": [{"segment": segment(session).id}], "out": []}).id
    start(database, settings, ident, PEOPLE)
    run_all(database, ident)
    return keeper.letters


def test_one_click_unsubscribes_each_and_nobody_else(client, database, one_click):
    """Every second of a thousand, by the address in the header (RFC 8058)."""
    clicked = one_click[::2]
    with clock.at(NOW):
        for letter in clicked:
            answer = client.post(
                letter.unsubscribe.removeprefix("http://127.0.0.1:1"),
                data={"List-Unsubscribe": "One-Click"},
            )
            assert answer.status_code == 200
    with database.session() as session:
        off = session.scalars(
            sa.text(
                "SELECT email FROM contacts c JOIN consents k ON k.contact_id = c.id "
                "WHERE NOT k.agreed"
            )
        ).all()
    assert sorted(off) == sorted(letter.to for letter in clicked)
