"""Whoever wishes it is told by email what waits for them: once, also when the mail server was away,
and nobody who does not wish it."""

import dataclasses
import datetime as dt
import email

import pytest
import sqlalchemy as sa
from aiosmtpd.controller import Controller

from meadowrun.base import clock, jobs
from tests.conftest import NOW
from tests.ports import own_port
from tests.store.people import add, ready_send
from tests.store.test_review import asked, shown
from tests.store.web import sign_in, words
from tests.store.work import delivered, dispatched


class Box:
    """Keeps the emails that came, in order."""

    def __init__(self):
        self.mails = []

    async def handle_DATA(self, server, session, envelope):
        found = email.message_from_bytes(envelope.content, policy=email.policy.default)
        self.mails.append(
            (
                envelope.rcpt_tos[0],
                found["Subject"],
                found.get_body().get_content(),
                found["Message-ID"],
            )
        )
        return "250 Kept"


@pytest.fixture
def port():
    return own_port()


@pytest.fixture
def telling(database, settings, port):
    """Runs the worker's task so many minutes from now: what waits was asked for through pages,
    which go by the real clock."""
    jobs.set_context(
        jobs.Context(database, dataclasses.replace(settings, smtp_url=f"smtp://127.0.0.1:{port}"))
    )

    def run(minutes=0):
        with clock.at(clock.machine_now() + dt.timedelta(minutes=minutes)):
            jobs.run_here("outgoing.tell")
            jobs.run_here("shell.tell")

    yield run
    jobs.set_context(jobs.Context(database, settings))


@pytest.fixture
def box(port):
    kept = Box()
    control = Controller(kept, hostname="127.0.0.1", port=port)
    control.start()
    yield kept
    control.stop()


def wishes(client):
    assert client.post("/password/told", data={"told": "yes"}).status_code == 303


def test_the_reader_is_asked_and_the_author_answered(web, second, database, letter, telling, box):
    wishes(web)
    wishes(second)
    number = asked(web, database, letter)
    telling()
    telling(1)
    ((to, subject, body, _),) = box.mails
    assert to == "hetty@farrowhill.example" and subject == "Admin asks you to read “A letter”"
    assert body.startswith("Hetty,") and f"/messages/{letter}/review" in body
    second.post(
        f"/messages/{letter}/review/{number}", data={"answer": "back", "note": "Shorter, please."}
    )
    telling(2)
    assert (
        box.mails[1][:2] == ("admin@farrowhill.example", "Hetty sent back “A letter”")
        and "Shorter, please." in box.mails[1][2]
    )
    number = asked(web, database, letter)
    second.post(
        f"/messages/{letter}/review/{number}",
        data={"answer": "approve", "content": shown(second, letter)},
    )
    telling(3)
    assert [mail[1] for mail in box.mails[2:]] == [
        "Admin asks you to read “A letter”",
        "Hetty approved “A letter”",
    ]
    assert len({mail[3] for mail in box.mails}) == 4


def test_who_does_not_wish_it_is_not_told(web, second, database, letter, telling, box):
    asked(web, database, letter)
    telling()
    assert box.mails == []
    # Wishing it later tells of what comes later, not of what was.
    wishes(second)
    telling(1)
    assert box.mails == []


def test_a_mail_server_that_was_away_gets_it_later(web, second, database, letter, telling, port):
    wishes(second)
    asked(web, database, letter)
    telling()
    kept = Box()
    control = Controller(kept, hostname="127.0.0.1", port=port)
    control.start()
    try:
        telling(0.5)
        assert kept.mails == [], "not before its time"
        telling(2)
        telling(3)
    finally:
        control.stop()
    assert len(kept.mails) == 1


def test_it_is_given_up_after_some_tries(web, second, database, letter, telling):
    wishes(second)
    asked(web, database, letter)
    for hour in range(12):
        telling(hour * 600)
    with database.session() as session:
        assert session.execute(sa.text("SELECT tries, done_at IS NOT NULL FROM told")).one() == (
            8,
            True,
        )


def test_doubts_and_a_send_that_does_not_go_on_are_told_to_those_who_may_settle_them(
    client, web, database, telling, box
):
    sign_in(client, "viewer")
    wishes(client)
    sign_in(client, "author")
    wishes(client)
    with clock.at(NOW), database.session() as session:
        contact = add(session, NOW, "ann@post.example")
        send = ready_send(session, NOW, {"in": [{"contact": contact.id}]})
        send.state = "running"
        made = dispatched(session, send, NOW)
        delivered(session, send, contact.id, "in_doubt")
        session.execute(
            sa.text(
                "INSERT INTO batches (claim, dispatch_id, task, times, failed_at, not_before, "
                "reason) VALUES (gen_random_uuid(), :d, 'deliver', 5, :t, :t, 'the disk is full')"
            ),
            {"d": made.id, "t": NOW},
        )
        name = send.name
    telling()
    telling(1)
    assert sorted((mail[0], mail[1]) for mail in box.mails) == [
        ("author@farrowhill.example", f"People are in doubt in “{name}”"),
        ("author@farrowhill.example", f"“{name}” does not go on"),
    ]
    assert "the disk is full" in "".join(mail[2] for mail in box.mails)


def test_the_page_says_to_which_address_and_keeps_the_wish(web):
    page = web.get("/password").text
    assert "admin@farrowhill.example" in words(page) and "checked" not in page
    assert "What is waiting for you is sent to admin@farrowhill.example." in words(
        web.post("/password/told", data={"told": "yes"}, follow_redirects=True).text
    )
    assert "checked" in web.get("/password").text
    web.post("/password/told")
    assert "checked" not in web.get("/password").text
