"""The village's mail server: a real one, that takes, refuses, defers and returns by address."""

import email
import email.message
import email.policy
import email.utils
import hashlib
import random
import re
import smtplib
from email.message import EmailMessage

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from meadowrun.base.listening import HandedOn
from meadowrun.village.minds import AMOUNTS
from meadowrun.village.store import DOMAINS, Resident, Store, pull

LINK = re.compile(r'href="(https?://[^"]+/c/[^"]+)"')
_PIXEL = re.compile(r'src="(https?://[^"]+/o/[^"]+)"')


def fate_of(store: Store, address: str) -> str:
    resident = store.resident(address)
    if resident:
        return resident.fate
    return DOMAINS.get(address.rpartition("@")[2].lower(), "takes")


class Handler:
    def __init__(self, store: Store):
        self.store = store

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        fate = fate_of(self.store, address)
        if fate == "gone":
            return "550 5.1.1 no such mailbox"
        if fate == "full":
            times = self.store.rows(
                "SELECT times FROM deferrals WHERE address = ?", address.lower()
            )
            count = (times[0]["times"] if times else 0) + 1
            self.store.write(
                "INSERT OR REPLACE INTO deferrals VALUES (?, ?)", address.lower(), count
            )
            if count <= 2:
                return "452 4.2.2 the mailbox is full, try again later"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        raw = bytes(envelope.original_content or b"")
        for address in envelope.rcpt_tos:
            take(self.store, address, raw, envelope.mail_from or "")
        return "250 taken"


def take(store: Store, address: str, raw: bytes, return_path: str) -> int:
    """Puts a mail into a mailbox; a resident makes up their mind what to do with it, and when."""
    message = email.message_from_bytes(raw, policy=email.policy.default)
    sent = (
        email.utils.parsedate_to_datetime(str(message["Date"])).timestamp()
        if message["Date"]
        else 0.0
    )
    mail = store.write(
        "INSERT INTO mails (address, message_id, sender, subject, at, raw, return_path) "
        "VALUES (?, ?, ?, ?, ?, ?, ?)",
        address.lower(),
        str(message["Message-ID"] or "").strip(),
        str(message["From"] or ""),
        str(message["Subject"] or ""),
        sent,
        raw,
        return_path,
    )
    fate = fate_of(store, address)
    if fate == "returns":
        store.plan(sent + 120, "return", "", mail)
    resident = store.resident(address)
    if resident is None and fate == "takes" and message["List-Unsubscribe"]:
        # Colleagues get no mail of that kind; whoever does was brought in since the village was
        # made.
        resident = store.moves_in(address)
    if resident and fate != "returns" and not str(message["Subject"] or "").startswith("[Proof]"):
        for due, deed, detail in make_up_mind(resident, message, sent):
            store.plan(due, deed, detail, mail)
    return mail


def make_up_mind(
    resident: Resident, message: email.message.EmailMessage, sent: float
) -> list[tuple[float, str, str]]:
    """(when, deed, detail) of what a resident will do with a mail: the same for the same mail,
    whenever asked."""
    seed = hashlib.sha256(f"{resident.address}\0{message['Message-ID']}".encode()).digest()
    dice = random.Random(seed)
    plans: list[tuple[float, str, str]] = []
    if resident.prefetches:
        plans.append((sent + dice.uniform(1, 60), "prefetch", ""))
    if dice.random() >= resident.opens * pull(resident.hour - sent / 3600):
        return plans
    hours = (
        ((resident.hour - (sent / 3600) % 24) % 24)
        if dice.random() < 0.6
        else dice.expovariate(1 / 7)
    )
    opened = sent + 90 + 3600 * min(hours, 96) + dice.uniform(0, 1500)
    plans.append((opened, "open", ""))
    if dice.random() < resident.complains:
        plans.append((opened + 30, "complain", ""))
    elif dice.random() < resident.leaves:
        plans.append((opened + 45, "leave", ""))
    elif dice.random() < resident.clicks:
        body = message.get_body(("html",))
        links = LINK.findall(body.get_content()) if body else []
        if links:
            chosen = links[0] if dice.random() < 0.7 else dice.choice(links)
            plans.append((opened + dice.uniform(20, 200), "click", chosen.replace("&amp;", "&")))
            if dice.random() < resident.buys:
                plans.append((opened + dice.uniform(400, 40_000), "buy", str(dice.choice(AMOUNTS))))
    return plans


def pixel_of(raw: bytes) -> str | None:
    body = email.message_from_bytes(raw, policy=email.policy.default).get_body(("html",))
    found = _PIXEL.search(body.get_content()) if body else None
    return found.group(1).replace("&amp;", "&") if found else None


def reply(host: str, port: int, address: str, raw: bytes) -> None:
    """Writes back to where an email wishes it, by the server that takes mail there."""
    message = email.message_from_bytes(raw, policy=email.policy.default)
    to = email.utils.parseaddr(str(message["Reply-To"] or message["From"]))[1]
    written = EmailMessage()
    written["From"], written["To"] = address, to
    written["Subject"] = f"Re: {message['Subject'] or ''}"
    written["In-Reply-To"] = str(message["Message-ID"] or "")
    written["Date"] = email.utils.formatdate()
    written.set_content("Thank you, I will be there. Is there room for a telescope?\n")
    with smtplib.SMTP(host, port, timeout=10) as server:
        server.send_message(written, address, [to])


def return_mail(host: str, port: int, return_path: str, address: str, raw: bytes) -> None:
    """Sends a mail back as undeliverable (RFC 3464)."""
    _report(
        host,
        port,
        return_path,
        "delivery-status",
        "Reporting-MTA: dns; post.village.example\r\n\r\nFinal-Recipient: rfc822; "
        f"{address}\r\nAction: failed\r\n"
        "Status: 5.1.1\r\nDiagnostic-Code: smtp; 550 no such mailbox\r\n",
        raw,
    )


def complain(host: str, port: int, return_path: str, raw: bytes) -> None:
    """Reports a mail as a nuisance (RFC 5965)."""
    _report(
        host,
        port,
        return_path,
        "feedback-report",
        "Feedback-Type: abuse\r\nUser-Agent: Village/1.0\r\nVersion: 1\r\n",
        raw,
    )


def _report(host: str, port: int, to: str, kind: str, body: str, raw: bytes) -> None:
    first = EmailMessage()
    first.set_content("This is a report about an email from you.")
    parts = [
        first.as_bytes(policy=email.policy.SMTP),
        f"Content-Type: message/{kind}\r\n\r\n{body}".encode(),
        b"Content-Type: text/rfc822-headers\r\n\r\n" + raw.partition(b"\r\n\r\n")[0] + b"\r\n",
    ]
    joint = b"".join(b"--report\r\n" + p + b"\r\n" for p in parts) + b"--report--\r\n"
    head = (
        f"From: postmaster@village.example\r\nTo: {to}\r\nSubject: About an email "
        "from you\r\nMIME-Version: 1.0\r\n"
        f'Content-Type: multipart/report; report-type={kind}; boundary="report"\r\n\r\n'
    ).encode()
    with smtplib.SMTP(host, port, local_hostname="village", timeout=10) as server:
        server.sendmail("", [to], head + joint)


def post_office(store: Store, port: int, fd: int | None = None) -> Controller:
    return HandedOn(Handler(store), port, fd, data_size_limit=20_000_000)
