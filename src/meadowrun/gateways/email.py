"""An email as it leaves: its values and its bytes."""

import base64
import dataclasses
import datetime as dt
import email.utils
from email.header import Header

_END = "\r\n"
#: The longest line that holds an encoded word.
_LINE = 76


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
    #: an address that unsubscribes whoever writes to it (RFC 2369, 3.2); empty: there is none
    unsubscribe_to: str = ""
    #: what it is about, as mailing lists are named (RFC 2919): a name for people, and a domain-like
    #: id
    list_name: str = ""
    list_id: str = ""
    #: send:campaign:channel:sender, by which mailbox providers group complaints in their reports
    feedback_id: str = ""


def _header(name: str, value: str) -> str:
    """One header line. A value can never begin a second one."""
    value = " ".join(value.split())
    if value.isascii() and len(value) < 900:
        return f"{name}: {value}\r\n"
    encoded = Header(value, "utf-8", header_name=name, maxlinelen=76).encode(linesep="\r\n")
    return f"{name}: {encoded}\r\n"


def _mailbox(name: str, address: str, header: str = "") -> str:
    """A name and its address (RFC 5322, 3.4). Encoded words are at most 75 characters, their lines
    76 (RFC 2047, 2)."""
    name, address = " ".join(name.split()), "".join(address.split())
    if not name:
        return address
    if name.isascii():
        quoted = name.replace("\\", "\\\\").replace('"', '\\"')
        return f'"{quoted}" <{address}>'
    encoded = Header(name, "utf-8", header_name=header, maxlinelen=_LINE).encode(linesep=_END)
    last = encoded.rsplit(_END, 1)[-1]
    before = len(header) + 2 if _END not in encoded else 0
    return f"{encoded}{_END if before + len(last) + len(address) + 3 > _LINE else ''} <{address}>"


def _body(text: str) -> bytes:
    """A text in base64. Its lines end in CR LF, as texts do in every email (RFC 2045, 6.8)."""
    canonical = text.replace(_END, "\n").replace("\r", "\n").replace("\n", _END)
    return base64.encodebytes(canonical.encode()).replace(b"\n", b"\r\n")


def mime(letter: Letter, to: str = "") -> bytes:
    """The mail as RFC 5322 bytes: multipart/alternative, plain first, both parts UTF-8 in base64;
    one part for text only.

    `to` is the address in the form that the server takes; one with letters outside ASCII stands as
    UTF-8 (RFC 6532).
    """
    boundary = f"=_{letter.key}"
    head = (
        f"From: {_mailbox(letter.from_name, letter.from_address, 'From')}\r\n"
        + f"To: {_mailbox('', to or letter.to)}\r\n"
        + _header("Subject", letter.subject)
        + _header(
            "Date", email.utils.format_datetime(dt.datetime.fromtimestamp(letter.date, dt.UTC))
        )
        + _header("Message-ID", letter.message_id)
    )
    if letter.reply_to:
        head += _header("Reply-To", _mailbox("", letter.reply_to))
    if letter.unsubscribe:
        ways = [f"<{letter.unsubscribe}>"]
        if letter.unsubscribe_to:
            ways.append(f"<mailto:{letter.unsubscribe_to}>")
        head += _header("List-Unsubscribe", ", ".join(ways)) + _header(
            "List-Unsubscribe-Post", "List-Unsubscribe=One-Click"
        )
    if letter.list_id:
        head += (
            f"List-ID: {_mailbox(letter.list_name, letter.list_id, 'List-ID')}\r\n"
            if letter.list_name
            else f"List-ID: <{letter.list_id}>\r\n"
        )
    if letter.feedback_id:
        head += _header("Feedback-ID", letter.feedback_id)
    if not letter.html:
        head += (
            "MIME-Version: 1.0\r\nContent-Type: text/plain; "
            "charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n"
        )
        return head.encode() + _body(letter.text)
    head += (
        f'MIME-Version: 1.0\r\nContent-Type: multipart/alternative; boundary="{boundary}"\r\n\r\n'
    )
    part = (
        "--{}\r\nContent-Type: text/{}; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n"
    )
    return b"".join(
        (
            head.encode(),
            part.format(boundary, "plain").encode(),
            _body(letter.text),
            b"\r\n",
            part.format(boundary, "html").encode(),
            _body(letter.html),
            f"\r\n--{boundary}--\r\n".encode(),
        )
    )
