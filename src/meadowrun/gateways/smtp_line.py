"""One connection to a mail server (RFC 5321), by which one email after the other is offered and
ended."""

import smtplib

import idna

from meadowrun.core.dkim import Signer
from meadowrun.gateways.email import Letter, mime

#: Seconds that a server may take to answer the end of an email. RFC 5321 (4.5.3.2.6) would allow
#: ten minutes; what
#: answers later is asked for instead.
_ANSWERS_WITHIN = 60.0


class LineBroken(Exception):
    """The connection broke before the end of its email was sent: the server has not taken it."""


class Unusable(Exception):
    """This server can take no email for this address; the text says why."""


class Line:
    """One connection, with at most one email under way."""

    def __init__(self, server: smtplib.SMTP, signer: Signer | None = None):
        self.server, self._signer = server, signer
        self.alive = True
        #: an email is under way without its end
        self.halfway = False
        self._content = b""
        self._open_replies = 0
        self._replies: list[tuple[int, bytes]] = []

    def _broken(self, problem: Exception) -> LineBroken:
        self.close()
        return LineBroken(str(problem) or type(problem).__name__)

    def ask(self, letter: Letter) -> None:
        """Sends the envelope: all of it in one write where the server allows that (RFC 2920)."""
        to, international = self.envelope_address(letter.to)
        more = " SMTPUTF8 BODY=8BITMIME" if international else ""
        commands = (f"MAIL FROM:<{letter.return_path}>{more}", f"RCPT TO:<{to}>", "DATA")
        mail = mime(letter, to)
        if self._signer is not None:
            mail = self._signer.signed(letter.from_address, mail)
        self._content = mail.replace(b"\r\n.", b"\r\n..")
        self._replies = []
        try:
            if self.server.has_extn("pipelining"):
                self.server.send(("\r\n".join(commands) + "\r\n").encode())
                self._open_replies = len(commands)
                return
            for command in commands:
                self.server.send(f"{command}\r\n".encode())
                self._replies.append(self.server.getreply())
                if self._replies[-1][0] >= 400:
                    return
        except (OSError, smtplib.SMTPException) as problem:
            raise self._broken(problem) from problem

    def envelope_address(self, address: str) -> tuple[str, bool]:
        """The address as this server takes it, and whether it needs SMTPUTF8 (RFC 6531).

        Raises Unusable when no form of it can be used here.
        """
        name, _, host = address.rpartition("@")
        if address.isascii():
            return address, False
        if not name.isascii():
            if self.server.has_extn("smtputf8"):
                return address, True
            raise Unusable("the mail server accepts only ASCII characters before the @")
        try:
            return f"{name}@{idna.encode(host, uts46=True).decode()}", False
        except idna.IDNAError as problem:
            raise Unusable(f"the part after the @ is not a domain: {problem}") from problem

    def offer(self) -> tuple[int, bytes, bool] | None:
        """Reads what the server says of the envelope, and sends all of the email but its end.

        A refusal comes back as code, words and whether it is about the sender; then the line is
        ready again.
        """
        try:
            for _ in range(self._open_replies):
                self._replies.append(self.server.getreply())
            self._open_replies = 0
            replies = self._replies
            refused = next((reply for reply in replies if reply[0] >= 400 or reply[0] == -1), None)
            if refused is None:
                self.halfway = True
                self.server.send(self._content[:-1])
                return None
            if 421 in (replies[-1][0], refused[0]) or refused[0] == -1:
                # The server is closing the connection, which says nothing of this email (RFC 5321,
                # 3.8).
                raise smtplib.SMTPServerDisconnected(
                    refused[1].decode(errors="replace") or "connection closed"
                )
            if len(replies) == 3 and replies[2][0] == 354:
                self.server.send(b".\r\n")
                self.server.getreply()
            self.server.rset()
        except (OSError, smtplib.SMTPException) as problem:
            raise self._broken(problem) from problem
        return refused[0], refused[1], replies[0][0] >= 400

    def finish(self) -> None:
        """Sends the end: from here on the server may have the email, whatever we hear. `answer`
        tells the outcome."""
        try:
            self.server.send(self._content[-1:] + b".\r\n")
        except OSError:
            # Part of it may have left.
            self.close()
        self.halfway = False

    def answer(self) -> tuple[int, bytes] | None:
        """What the server says at the end; None when nobody will know."""
        if not self.alive:
            return None
        try:
            if self.server.sock is not None:
                self.server.sock.settimeout(_ANSWERS_WITHIN)
            code, words = self.server.getreply()
        except (OSError, smtplib.SMTPException):
            self.close()
            return None
        if code == -1:
            self.close()
            return None
        if code == 421:
            self.close()
        elif code >= 400:
            self._start_anew()
        return code, words

    def _start_anew(self) -> None:
        """Some servers that refuse an email still hold its envelope, and would refuse the next for
        that."""
        try:
            self.server.rset()
        except (OSError, smtplib.SMTPException):
            self.close()

    def close(self) -> None:
        self.alive = False
        self.server.close()

    def quit(self) -> None:
        """Takes leave; what is under way without its end is dropped by the server."""
        if self.halfway or not self.alive:
            self.close()
            return
        try:
            self.server.quit()
        except (OSError, smtplib.SMTPException):
            self.server.close()
