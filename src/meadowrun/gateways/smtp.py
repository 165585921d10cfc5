"""Email by SMTP (RFC 5321): several connections side by side, each with one email under way.

Everything of an email but its end is sent first; then the whole group is noted as being handed
over; only then the ends leave, all at once. So a worker that dies leaves in doubt hardly more than
what had really reached the server.
"""

import dataclasses
import functools
import itertools
import json
import smtplib
import socket
import ssl
import time
import urllib.parse
from collections.abc import Iterable, Iterator, Sequence

from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.manifest import Tried
from meadowrun.base.settings import Settings
from meadowrun.core.dkim import Signer
from meadowrun.core.guardrails.bounces import is_hard
from meadowrun.core.language import Wording, worded
from meadowrun.core.values import read_json
from meadowrun.gateways import outgoing
from meadowrun.gateways.email import Letter
from meadowrun.gateways.handing import WHOLE_BATCH, Begin, Gateway, Handed, all_may_go
from meadowrun.gateways.routes import TwoRoutes
from meadowrun.gateways.smtp_line import Line, LineBroken, Unusable

#: Replies that ask for authentication or encryption first (RFC 4954, 6): about us, never about whom
#: the mail is for.
_UNWELCOME = {523, 524, 525, 530, 534, 535, 538}
#: Replies of a server that lost its way (RFC 5321, 4.2.3): “not understood”, “not now”. They say
#: nothing of whom the mail is for.
_LOST_ITS_WAY = {500, 502, 503, 504}
#: Seconds after which a group that was noted may no longer leave, at most: others begin to ask what
#: became of it.
_LEAVES_WITHIN = 10.0
#: Bytes of what the server says of many emails.
_RECEIPTS = 10_000_000


#: This very machine, to which nothing needs to be encrypted.
_HERE = ("127.0.0.1", "::1", "localhost")


@dataclasses.dataclass
class _Group:
    """Emails that are asked about together: those that may come with their lines, those whose line
    broke, and of how many it is told already what became of them."""

    ready: list[tuple[Line, Letter]] = dataclasses.field(default_factory=list)
    broken: list[Letter] = dataclasses.field(default_factory=list)
    told: int = 0


@functools.cache
def _machines_trust() -> ssl.SSLContext:
    """The certificates that this machine believes, read once: that takes a tenth of a second, and a
    gateway is made for every batch."""
    return ssl.create_default_context()


class SmtpGateway:
    """Hands emails over on up to `at_once` connections."""

    def __init__(
        self,
        url: str,
        receipts_url: str = "",
        timeout: float = 30.0,
        at_once: int = 8,
        tls: str = "",
        leaves_within: float = _LEAVES_WITHIN,
        trusted: ssl.SSLContext | None = None,
        signer: Signer | None = None,
    ):
        """`tls` is as in the settings; `leaves_within` are the seconds after which a noted group
        stays; `trusted` says whose certificates are believed: those of the machine, unless told
        otherwise; `signer` signs emails before they leave."""
        self.signer = signer
        self.parts = urllib.parse.urlsplit(url)
        self.host, self.port = (
            self.parts.hostname or "",
            self.parts.port or (465 if self.parts.scheme == "smtps" else 25),
        )
        self.where = f"{self.host}:{self.port}"
        here = self.host in _HERE
        self.tls = tls or (
            "needed" if self.parts.username and not here else "none" if here else "offered"
        )
        self.trusted = trusted or _machines_trust()
        self.receipts_url, self.timeout, self.at_once = receipts_url, timeout, at_once
        self.can_be_asked = bool(receipts_url)
        self.leaves_within = leaves_within

    def _connect(self) -> Line:
        try:
            server = (
                smtplib.SMTP_SSL(
                    self.host,
                    self.port,
                    local_hostname="localhost",
                    timeout=self.timeout,
                    context=self.trusted,
                )
                if self.parts.scheme == "smtps"
                else smtplib.SMTP(
                    self.host, self.port, local_hostname="localhost", timeout=self.timeout
                )
            )
            assert server.sock is not None
            # Otherwise each email's last few bytes wait 40 ms for the answer to those before.
            server.sock.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            server.ehlo()
            self._encrypt(server)
            if self.parts.username:
                server.login(
                    urllib.parse.unquote(self.parts.username),
                    urllib.parse.unquote(self.parts.password or ""),
                )
        except ssl.SSLCertVerificationError as problem:
            raise GatewayUnavailable(
                Wording(
                    "The mail server %(where)s cannot be verified: %(verify_message)s. Use "
                    "the host name of its certificate, and a certificate signed by an authority "
                    "that this machine trusts.",
                    where=self.where,
                    verify_message=problem.verify_message,
                )
            ) from problem
        except (OSError, smtplib.SMTPException) as problem:
            raise GatewayUnavailable(
                Wording(
                    "The mail server %(where)s does not answer: %(problem)s",
                    where=self.where,
                    problem=problem,
                )
            ) from problem
        return Line(server, self.signer)

    def pass_on(self, return_path: str, to: str, mail: bytes) -> None:
        """Hands an email over as it came, to another address. Raises GatewayUnavailable when it is
        not taken."""
        line = self._connect()
        try:
            address, _ = line.envelope_address(to)
            line.server.sendmail(return_path, [address], mail)
        except (OSError, smtplib.SMTPException, Unusable) as problem:
            raise GatewayUnavailable(
                Wording(
                    "The mail server %(where)s did not take what is passed on: %(problem)s",
                    where=self.where,
                    problem=problem,
                )
            ) from problem
        finally:
            line.quit()

    def look(self) -> Tried:
        """Connects, as for an email, and says how long that and one answer take."""
        begun = time.monotonic()
        try:
            line = self._connect()
        except GatewayUnavailable as problem:
            return Tried(False, worded(str(problem)))
        connected = time.monotonic()
        try:
            line.server.noop()
        except (OSError, smtplib.SMTPException) as problem:
            line.close()
            return Tried(False, f"{self.where}: {problem}")
        answered = time.monotonic()
        encrypted = isinstance(line.server.sock, ssl.SSLSocket)
        line.quit()
        return Tried(
            True,
            Wording(
                "%(where)s answers in %(ms)s ms, connected in %(connected)s ms, %(encrypted)s",
                where=self.where,
                ms=f"{1000 * (answered - connected):.1f}",
                connected=f"{1000 * (connected - begun):.0f}",
                encrypted=Wording("encrypted") if encrypted else Wording("not encrypted"),
            ),
        )

    def _encrypt(self, server: smtplib.SMTP) -> None:
        """Goes on encrypted, to a server that proves who it is, where that is needed or offered.
        Raises GatewayUnavailable."""
        if self.parts.scheme == "smtps" or self.tls == "none":
            return
        if server.has_extn("starttls"):
            server.starttls(context=self.trusted)
            server.ehlo()
        elif self.tls == "needed":
            server.close()
            raise GatewayUnavailable(
                Wording(
                    "The mail server %(where)s offers no encryption (STARTTLS), so the "
                    "password would be sent unencrypted. Use smtps:, or set "
                    "MEADOWRUN_SMTP_TLS=none if that is intended.",
                    where=self.where,
                )
            )

    def hand_over(self, messages: Iterable[Letter], begin: Begin = all_may_go) -> Iterator[Handed]:
        lines: list[Line] = []
        letters = iter(messages)
        try:
            while group := list(itertools.islice(letters, self.at_once)):
                while group:
                    self._open(lines, len(group))
                    now, group = group[: len(lines)], group[len(lines) :]
                    yield from self._group(now, lines, begin)
        finally:
            for line in lines:
                line.quit()

    def _open(self, lines: list[Line], wanted: int) -> None:
        """Replaces broken lines and adds new ones up to `wanted`; fewer where the server allows no
        more of them."""
        lines[:] = [line for line in lines if line.alive]
        while len(lines) < wanted:
            try:
                lines.append(self._connect())
            except GatewayUnavailable:
                if not lines:
                    raise
                self.at_once = len(lines)
                return

    def _group(
        self, letters: Sequence[Letter], lines: list[Line], begin: Begin
    ) -> Iterator[Handed]:
        """Hands one email over on each line."""
        group = _Group()
        yield from self._ask(list(zip(lines, letters, strict=False)), group)
        for letter in group.broken:
            yield from self._once_more(letter, lines, group)
        yield from self._finish(group.ready, begin)

    def _ask(self, pairs: Sequence[tuple[Line, Letter]], group: _Group) -> Iterator[Handed]:
        """Asks on all lines at once, then reads the answers: whether each email may come."""
        asked: list[tuple[Line, Letter]] = []
        for line, letter in pairs:
            try:
                line.ask(letter)
                asked.append((line, letter))
            except LineBroken:
                group.broken.append(letter)
            except Unusable as problem:
                group.told += 1
                yield Handed(letter.contact_id, "bad_address", str(problem)[:300])
            except (ValueError, TypeError, LookupError) as problem:
                # This one cannot be put into the form of an email: the others can.
                group.told += 1
                why = f"no email could be made of it: {problem}"[:300]
                yield Handed(letter.contact_id, "not_rendered", why)
        for line, letter in asked:
            try:
                refused = self._offered(line, letter)
            except LineBroken:
                group.broken.append(letter)
                continue
            if refused is None:
                group.ready.append((line, letter))
            else:
                group.told += 1
                yield refused

    def _once_more(self, letter: Letter, lines: list[Line], group: _Group) -> Iterator[Handed]:
        """A connection may have been closed while it was idle: one fresh try."""
        try:
            line = self._connect()
            lines.append(line)
            line.ask(letter)
            refused = self._offered(line, letter)
        except LineBroken as problem:
            if not group.ready and not group.told:
                raise GatewayUnavailable(
                    Wording(
                        "The mail server %(where)s hangs up in the middle of an email: %(problem)s",
                        where=self.where,
                        problem=problem,
                    )
                ) from problem
            why = f"the mail server hung up in the middle of this email: {problem}"[:300]
            yield Handed(letter.contact_id, "deferred", why)
            return
        if refused is None:
            group.ready.append((line, letter))
        else:
            yield refused

    def _offered(self, line: Line, letter: Letter) -> Handed | None:
        refused = line.offer()
        if refused is None:
            return None
        code, words, about_sender = refused
        if code in _UNWELCOME or about_sender and code >= 500:
            # Whoever it was for: we are refused, not they. Nothing more of this can be handed over.
            raise GatewayUnavailable(
                Wording(
                    "The mail server %(where)s refuses our email: %(code)s %(decode)s",
                    where=self.where,
                    code=code,
                    decode=words.decode(errors="replace")[:200],
                )
            )
        return _refusal(letter, code, words, at_the_door=True)

    def _finish(self, ready: list[tuple[Line, Letter]], begin: Begin) -> Iterator[Handed]:
        """Notes the group as being handed over, sends the ends, and tells the answers."""
        if not ready:
            return
        before = time.monotonic()
        try:
            going = {letter.contact_id for letter in begin([letter for _, letter in ready])}
        except BaseException:
            # Closed before their ends: none of these is taken.
            for line, _ in ready:
                line.close()
            raise
        late = time.monotonic() - before > self.leaves_within
        leaving = []
        for line, letter in ready:
            if letter.contact_id in going and not late:
                line.finish()
                leaving.append((line, letter))
                continue
            line.close()
            if letter.contact_id in going:
                yield Handed(letter.contact_id, "waiting", "")
        for line, letter in leaving:
            said = line.answer()
            if said is None:
                yield Handed(letter.contact_id, "in_doubt", "no answer after the email was sent")
            elif said[0] == 250:
                yield Handed(letter.contact_id, "delivered", said[1].decode(errors="replace")[:200])
            else:
                yield _refusal(letter, *said)

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        if not self.receipts_url or not ids:
            return {}
        try:
            answer = outgoing.ask(
                "POST",
                self.receipts_url,
                json.dumps({"message_ids": list(ids)}).encode(),
                {"Content-Type": "application/json"},
                inner=outgoing.machine_of(self.receipts_url),
                most=_RECEIPTS,
            )
            taken = read_json(answer.body)["taken"]
            return {key: bool(value) for key, value in taken.items()} if answer.status < 300 else {}
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            return {}


def _refusal(letter: Letter, code: int, words: bytes, at_the_door: bool = False) -> Handed:
    """4xx: the server asks to come again later (RFC 5321, 4.2.1), as one does that lost its way;
    5xx: it never will take this. Only a refusal `at_the_door`, of the address before the mail was
    seen, may be hard."""
    said = f"{code} {words.decode(errors='replace')}"[:300]
    if 400 <= code < 500 or code in _LOST_ITS_WAY:
        return Handed(letter.contact_id, "deferred", said)
    return Handed(letter.contact_id, "bounced", said, hard=at_the_door and is_hard(said))


class NullGateway:
    """Takes everything and sends nothing."""

    at_once = WHOLE_BATCH
    can_be_asked = True

    def hand_over(self, messages: Iterable[Letter], begin: Begin = all_may_go) -> Iterator[Handed]:
        for letter in messages:
            yield Handed(letter.contact_id, "delivered", "")

    def took(self, ids: Sequence[str]) -> dict[str, bool]:
        """Nothing ever left, so that it may be handed over again."""
        return dict.fromkeys(ids, False)


def host_of(settings: Settings) -> str:
    """The mail server that the settings name; empty where there is none."""
    return urllib.parse.urlsplit(settings.smtp_url).hostname or ""


def look(settings: Settings) -> Tried:
    """Whether the mail server that the settings name takes emails, and how fast it answers."""
    return _look(_server(settings, settings.smtp_url, settings.mail_receipts_url))


def look_at_second(settings: Settings) -> Tried:
    """The same of the second mail server."""
    return _look(_server(settings, settings.smtp_url_2, settings.mail_receipts_url_2))


def _look(found: Gateway) -> Tried:
    if isinstance(found, SmtpGateway):
        return found.look()
    return Tried(False, Wording("This is a trial: emails count as sent, but reach nobody."))


def pass_on(settings: Settings, to: str, mail: bytes) -> None:
    """Hands what somebody wrote back over to another address, as it came. Raises
    GatewayUnavailable."""
    found = _server(settings, settings.smtp_url, settings.mail_receipts_url)
    if isinstance(found, SmtpGateway):
        found.pass_on(f"replies@{settings.mail_domain}", to, mail)


def gateway(settings: Settings, signer: Signer | None = None, route: str = "first") -> Gateway:
    """The gateway that the settings name; `signer` signs what leaves by it, `route` is the mail
    server that is tried first where there are two."""
    first = _server(settings, settings.smtp_url, settings.mail_receipts_url, signer)
    if not settings.smtp_url_2:
        return first
    second = _server(settings, settings.smtp_url_2, settings.mail_receipts_url_2, signer)
    return TwoRoutes(second, first) if route == "second" else TwoRoutes(first, second)


def _server(
    settings: Settings, url: str, receipts_url: str, signer: Signer | None = None
) -> Gateway:
    """What hands over to one mail server."""
    if url.startswith("null:"):
        return NullGateway()
    return SmtpGateway(
        url,
        receipts_url,
        at_once=settings.smtp_connections,
        tls=settings.smtp_tls,
        # Well before “not taken” would be believed of it.
        leaves_within=min(_LEAVES_WITHIN, settings.settle_after / 2),
        signer=signer,
    )


def can_be_asked(settings: Settings) -> bool:
    """Whether every mail server tells what it took."""
    second = not settings.smtp_url_2 or bool(settings.mail_receipts_url_2)
    return bool(settings.mail_receipts_url) and second


def reachable(settings: Settings) -> str | None:
    """None when a mail server can be spoken to, else what is wrong with the first."""
    problem = _reachable(settings.smtp_url)
    if problem and settings.smtp_url_2 and _reachable(settings.smtp_url_2) is None:
        return None
    return problem


def _reachable(url: str) -> str | None:
    parts = urllib.parse.urlsplit(url)
    if parts.scheme == "null":
        return "No mail server is set up. This is a trial: emails count as sent, but reach nobody."
    try:
        socket.create_connection(
            (parts.hostname or "", parts.port or (465 if parts.scheme == "smtps" else 25)),
            timeout=2,
        ).close()
    except OSError as problem:
        return (
            f"The mail server {parts.hostname}:{parts.port} does not answer ({problem}). What is "
            "sent waits until it does."
        )
    return None
