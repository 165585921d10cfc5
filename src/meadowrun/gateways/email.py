"""An email as it leaves: its values and its bytes."""

import base64
import dataclasses
import email.utils
from email.header import Header


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


def mime(letter: Letter, to: str = "") -> bytes:
    """The mail as RFC 5322 bytes: multipart/alternative, plain first, both parts UTF-8 in base64; one part for text only.

    `to` is the address in the form that the server takes; one with letters outside ASCII stands as UTF-8 (RFC 6532).
    """
    boundary = f"=_{letter.key}"
    head = (_header("From", _address(letter.from_name, letter.from_address))
            + f"To: {_address('', to or letter.to)}\r\n"
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
        return head.encode() + _body(letter.text)
    head += ("MIME-Version: 1.0\r\nContent-Type: multipart/alternative; "
             f'boundary="{boundary}"\r\n\r\n')
    part = "--{}\r\nContent-Type: text/{}; charset=utf-8\r\nContent-Transfer-Encoding: base64\r\n\r\n"
    return b"".join((head.encode(), part.format(boundary, "plain").encode(), _body(letter.text), b"\r\n",
                     part.format(boundary, "html").encode(), _body(letter.html), f"\r\n--{boundary}--\r\n".encode()))
