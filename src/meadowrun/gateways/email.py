"""How an email leaves: one small Protocol, SMTP behind it, and a null gateway for measurements."""

import base64
import dataclasses
import email.utils
import json
import smtplib
import socket
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Iterable, Iterator, Sequence
from email.header import Header
from typing import Protocol

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.settings import Settings
from meadowrun.core.guardrails.bounces import is_hard


@dataclasses.dataclass(frozen=True, slots=True)
class Letter:
    """One mail, ready to go. `key` is the delivery's token: the Message-ID follows from it."""

    key: str
    contact_id: int
    from_name: str
    from_address: str
    reply_to: str
    to: str
    return_path: str
    subject: str
    html: str
    text: str
    date: float
    message_id: str
    #: address for one-click unsubscription (RFC 8058); empty for proofs
    unsubscribe: str = ""


@dataclasses.dataclass(frozen=True, slots=True)
class Handed:
    """What became of one letter: delivered, bounced, deferred or in_doubt, and the server's words."""

    contact_id: int
    outcome: str
    note: str
    #: bounced because of the address itself, which is not written to again until it is corrected
    hard: bool = False


class EmailGateway(Protocol):
    """Hands letters over; asks later what became of those whose answer was lost."""

    def hand_over(self, letters: Iterable[Letter]) -> Iterator[Handed]:
        """Yields one Handed per letter, in order. Raises GatewayUnavailable when nothing more can be handed over:
        letters for which nothing was yielded were not taken."""
        ...

    def took(self, message_ids: Sequence[str]) -> dict[str, bool]:
        """For each Message-ID whether the server took it; absent where that cannot be known."""
        ...


def _header(name: str, value: str) -> str:
    """One header line. A value can never begin a second one."""
    value = " ".join(value.split())
    if value.isascii() and len(value) < 900:
        return f"{name}: {value}\r\n"
    return f"{name}: {Header(value, 'utf-8', header_name=name, maxlinelen=76).encode(linesep=chr(13) + chr(10))}\r\n"


def _address(name: str, address: str) -> str:
    address = "".join(address.split())
    if not name:
        return address
    if name.isascii():
        quoted = " ".join(name.split()).replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}" <{address}>'
    return f"{Header(' '.join(name.split()), 'utf-8').encode()} <{address}>"


def _body(text: str) -> bytes:
    return base64.encodebytes(text.encode()).replace(b"\n", b"\r\n")


def mime(letter: Letter) -> bytes:
    """The mail as RFC 5322 bytes: multipart/alternative, plain first, both parts UTF-8 in base64; one part for text only."""
    boundary = f"=_{letter.key}"
    head = (_header("From", _address(letter.from_name, letter.from_address))
            + _header("To", _address("", letter.to))
            + _header("Subject", letter.subject)
            + _header("Date", email.utils.formatdate(letter.date))
            + _header("Message-ID", letter.message_id))
    if letter.reply_to:
        head += _header("Reply-To", _address("", letter.reply_to))
    if letter.unsubscribe:
        head += (_header("List-Unsubscribe", f"<{letter.unsubscribe}>")
                 + _header("List-Unsubscribe-Post", "List-Unsubscribe=One-Click"))
    if not letter.html:
        head += "MIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n"
        return head.encode("ascii") + _body(letter.text)
    head += ("MIME-Version: 1.0\r\nContent-Type: multipart/alternative; "
             f'boundary="{boundary}"\r\n\r\n')
    part = "--{}\r\nContent-Type: text/{}; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n"
    return b"".join((head.encode("ascii"), part.format(boundary, "plain").encode(), _body(letter.text), b"\r\n",
                     part.format(boundary, "html").encode(), _body(letter.html), f"\r\n--{boundary}--\r\n".encode()))


class SmtpGateway:
    """SMTP (RFC 5321), with the commands of a letter in one write where the server allows it (RFC 2920)."""

    def __init__(self, url: str, receipts_url: str = "", timeout: float = 30.0):
        self.parts = urllib.parse.urlsplit(url)
        self.receipts_url, self.timeout = receipts_url, timeout

    def _connect(self) -> smtplib.SMTP:
        try:
            server = smtplib.SMTP(self.parts.hostname or "", self.parts.port or 25, local_hostname="localhost",
                                  timeout=self.timeout)
            # Otherwise each letter's last few bytes wait 40 ms for the answer to those before.
            server.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            server.ehlo()
            if server.has_extn("starttls") and self.parts.hostname not in ("127.0.0.1", "localhost"):
                server.starttls()
                server.ehlo()
            if self.parts.username:
                server.login(urllib.parse.unquote(self.parts.username), urllib.parse.unquote(self.parts.password or ""))
        except (OSError, smtplib.SMTPException) as problem:
            raise GatewayUnavailable(f"The mail server {self.parts.hostname}:{self.parts.port} does not answer: "
                                     f"{problem}") from problem
        return server

    def hand_over(self, letters: Iterable[Letter]) -> Iterator[Handed]:
        server: smtplib.SMTP | None = None
        try:
            for letter in letters:
                if server is None:
                    server = self._connect()
                handed = self._one(server, letter)
                if handed is None:
                    # The line broke before the letter's end was sent: it was not taken. One fresh try.
                    server = self._connect()
                    handed = self._one(server, letter)
                    if handed is None:
                        raise GatewayUnavailable("The mail server hangs up in the middle of a mail.")
                if handed.outcome == "in_doubt":
                    server = None
                yield handed
        finally:
            if server is not None:
                try:
                    server.quit()
                except (OSError, smtplib.SMTPException):
                    server.close()

    def _one(self, server: smtplib.SMTP, letter: Letter) -> Handed | None:
        """Hands one letter over; None when the line broke before its last byte was sent."""
        sent_all = False
        try:
            commands = (f"MAIL FROM:<{letter.return_path}>", f"RCPT TO:<{letter.to}>", "DATA")
            if server.has_extn("pipelining"):
                server.send("\r\n".join(commands) + "\r\n")
                replies = [server.getreply() for _ in commands]
            else:
                replies = []
                for command in commands:
                    server.putcmd(command)
                    replies.append(server.getreply())
                    if replies[-1][0] >= 400:
                        break
            refused = next(((code, words) for code, words in replies if code >= 400), None)
            if refused and (replies[0][0] >= 500 or refused[0] in _UNWELCOME):
                # Whoever it was for: we are refused, not they. Nothing more of this send can be handed over.
                server.close()
                raise GatewayUnavailable(f"The mail server {self.parts.hostname}:{self.parts.port} does not take mail from us: "
                                         f"{refused[0]} {refused[1].decode(errors='replace')[:200]}")
            if refused:
                if len(replies) == 3 and replies[2][0] == 354:
                    server.send(b".\r\n")
                    server.getreply()
                if replies[-1][0] != 421:
                    server.rset()
                return _refusal(letter, *refused, at_the_door=True)
            content = mime(letter).replace(b"\r\n.", b"\r\n..")
            server.send(content[:-1])
            sent_all = True
            server.send(content[-1:] + b".\r\n")
            code, words = server.getreply()
        except (OSError, smtplib.SMTPException) as problem:
            server.close()
            return Handed(letter.contact_id, "in_doubt", f"No answer after the mail was sent: {problem}") \
                if sent_all else None
        if code == 250:
            return Handed(letter.contact_id, "delivered", words.decode(errors="replace")[:200])
        return _refusal(letter, code, words)

    def took(self, message_ids: Sequence[str]) -> dict[str, bool]:
        if not self.receipts_url or not message_ids:
            return {}
        request = urllib.request.Request(self.receipts_url, json.dumps({"message_ids": list(message_ids)}).encode(),
                                         {"Content-Type": "application/json"})
        try:
            with urllib.request.urlopen(request, timeout=10) as answer:
                taken = json.load(answer)["taken"]
        except (OSError, ValueError, KeyError, urllib.error.URLError):
            return {}
        return {key: bool(value) for key, value in taken.items()}


#: Replies that ask for authentication or encryption first (RFC 4954, 6): about us, never about whom the mail is for.
_UNWELCOME = {523, 524, 525, 530, 534, 535, 538}


def _refusal(letter: Letter, code: int, words: bytes, at_the_door: bool = False) -> Handed:
    """4xx: the server asks to come again later (RFC 5321, 4.2.1); 5xx: it never will take this. Only a refusal `at_the_door`, of
    the address before the mail was seen, may be hard."""
    said = f"{code} {words.decode(errors='replace')}"[:300]
    if 400 <= code < 500:
        return Handed(letter.contact_id, "deferred", said)
    return Handed(letter.contact_id, "bounced", said, hard=at_the_door and is_hard(said))


class NullGateway:
    """Takes everything and sends nothing."""

    def hand_over(self, letters: Iterable[Letter]) -> Iterator[Handed]:
        for letter in letters:
            yield Handed(letter.contact_id, "delivered", "")

    def took(self, message_ids: Sequence[str]) -> dict[str, bool]:
        return dict.fromkeys(message_ids, True)


def gateway(settings: Settings) -> EmailGateway:
    """The gateway that the settings name."""
    if settings.smtp_url.startswith("null:"):
        return NullGateway()
    return SmtpGateway(settings.smtp_url, settings.mail_receipts_url)


def reachable(settings: Settings) -> str | None:
    """None when the mail server can be spoken to, else what is wrong."""
    parts = urllib.parse.urlsplit(settings.smtp_url)
    if parts.scheme == "null":
        return "No mail server is set: mails count as sent, but go nowhere. MEADOWRUN_SMTP_URL names one."
    try:
        socket.create_connection((parts.hostname or "", parts.port or 25), timeout=2).close()
    except OSError as problem:
        return f"The mail server {parts.hostname}:{parts.port} does not answer ({problem})."
    return None
