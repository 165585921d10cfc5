"""What the mail server reports: mails that come back, and complaints."""

import dataclasses
import email.policy
from email.message import EmailMessage

import pytest

from meadowrun.people.models import Consent, Contact, Suppression
from meadowrun.tracking import inbound
from meadowrun.village.post import complain, return_mail
from tests.ports import own_port
from tests.store.tracked import outcome, token


def reports(database, settings, sent, name, what):
    """Sends a report as the village does, and reads it as the listener does."""
    original = EmailMessage()
    original["Subject"] = "Hello"
    original.set_content("x")
    raw = original.as_bytes(policy=email.policy.SMTP)
    port = own_port()
    office = inbound.listener(database, dataclasses.replace(settings, inbound=("127.0.0.1", port)))
    office.start()
    try:
        path = f"bounce+{token(settings, sent, name, 'bounce')}@mail.example"
        if what == "return":
            return_mail("127.0.0.1", port, path, f"{name}@post.example", raw)
        else:
            complain("127.0.0.1", port, path, raw)
    finally:
        office.stop()


def test_a_mail_that_comes_back_is_a_bounce_and_stops_the_next(database, settings, sent):
    reports(database, settings, sent, "ann", "return")
    found = outcome(database, sent)
    assert found.tally == {"delivered": 4, "bounced": 1} and found.audience == 5
    with database.session() as session:
        assert session.get(Contact, sent[1]["ann"]).bounced_at is not None


def test_a_complaint_suppresses(database, settings, sent):
    reports(database, settings, sent, "ben", "complain")
    assert outcome(database, sent).complained == 1
    with database.session() as session:
        assert session.get(Suppression, "ben@post.example").reason == "complained about an email"
        assert session.get(Consent, (sent[1]["ben"], "email", 0)).agreed is False


@pytest.mark.parametrize(
    ("raw", "said"),
    [
        (b"Subject: hi\r\n\r\nhello", None),
        (b"", None),
        (b"\xff\xfe\x00rubbish", None),
        (
            b'Content-Type: multipart/report; boundary="x"\r\n\r\n--x\r\nContent-Type: '
            b"message/delivery-status\r\n\r\nA: b\r\n\r\n"
            b"Action: failed\r\nStatus: 4.2.2\r\nDiagnostic-Code: smtp; full\r\n--x--",
            ("bounce", False, "full"),
        ),
        (
            b'Content-Type: multipart/report; boundary="x"\r\n\r\n--x\r\nContent-Type: '
            b"message/delivery-status\r\n\r\nA: b\r\n\r\n"
            b"Action: delivered\r\nStatus: 2.0.0\r\n--x--",
            None,
        ),
    ],
)
def test_reports_are_read(raw, said):
    assert inbound.read_report(raw) == said
