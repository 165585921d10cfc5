"""The way back for mail: an SMTP listener that reads bounces (RFC 3464) and complaints (RFC 5965),
takes replies, and unsubscribes whoever writes to do so.

The envelope's recipient says which delivery it is about: bounce+<token>@our domain, the return path
of every mail; reply+<token>, where replies go; leave+<token>, by which somebody unsubscribes.
"""

import contextlib
import datetime as dt
import email
import email.message
import email.policy
import re
import signal
import threading

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from sqlalchemy import orm

from meadowrun.base import clock, signing
from meadowrun.base.db import Database
from meadowrun.base.errors import GatewayUnavailable
from meadowrun.base.listening import HandedOn
from meadowrun.base.logs import configure, log
from meadowrun.base.settings import Settings
from meadowrun.core.guardrails.bounces import is_hard
from meadowrun.gateways import smtp
from meadowrun.tracking import actions, replies

#: Parts within parts of a report; real ones have one or two.
_MOST_PARTS = 20
_RECIPIENT = re.compile(r"(bounce|reply|leave)\+([A-Za-z0-9_-]{20,40})@", re.I)
#: What an address is for → the purpose of its token.
_PURPOSES = {"bounce": "bounce", "reply": "message", "leave": "leave"}
#: The largest email that is taken; replies bring files with them.
_MOST_BYTES = 15_000_000


def read_report(raw: bytes) -> tuple[str, bool, str] | None:
    """(what, hard, words) of a report: what is "bounce" or "complaint"; None for anything else.

    A status that blames the address is hard, any other soft (RFC 3463).
    """
    if raw.lower().count(b"boundary=") > _MOST_PARTS:
        # No report is so deep, and reading one would hold up all others.
        return None
    message = email.message_from_bytes(raw, policy=email.policy.default)
    for part in message.walk():
        kind = part.get_content_type()
        if kind == "message/feedback-report":
            return "complaint", False, ""
        if kind == "message/delivery-status":
            fields: dict[str, str] = {}
            payload = part.get_payload()
            for block in payload if isinstance(payload, list) else []:
                if isinstance(block, email.message.Message):
                    fields |= {k.lower(): str(v) for k, v in block.items()}
            if fields.get("action", "failed").lower() not in ("failed", "delayed"):
                return None
            status = fields.get("status", "5.0.0")
            words = (
                fields.get("diagnostic-code", "").partition(";")[2].strip() or f"status {status}"
            )
            return "bounce", is_hard(status), words
    return None


class Handler:
    """Takes reports for tokens of ours and refuses everything else."""

    def __init__(self, database: Database, settings: Settings):
        self.database, self.settings = database, settings

    async def handle_RCPT(
        self, server: SMTP, session: Session, envelope: Envelope, address: str, options: list[str]
    ) -> str:
        if self._read(address) is None:
            return "550 5.1.1 no such mailbox here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    def _read(self, address: str) -> tuple[str, tuple[int, int]] | None:
        """What an address is for, and the delivery that it is about; None for none of ours."""
        match = _RECIPIENT.match(address)
        if not match:
            return None
        use = match[1].lower()
        found = signing.read(self.settings.secret, _PURPOSES[use], match[2])
        return (use, found) if found else None

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        raw = bytes(envelope.original_content or b"")
        about = [found for address in envelope.rcpt_tos if (found := self._read(address))]
        try:
            with self.database.session() as db:
                now = clock.now(db)
                for use, delivery in about:
                    if use == "bounce":
                        self._report(db, now, delivery, raw)
                    elif use == "leave":
                        actions.unsubscribe(db, now, *delivery, "by an email to unsubscribe")
                    else:
                        self._reply(db, now, delivery, raw)
        except GatewayUnavailable as problem:
            # Nothing was recorded: their server tries again.
            log.warning("a reply could not be passed on", problem=str(problem))
            return "451 4.4.1 try again later"
        return "250 taken"

    def _report(
        self, db: orm.Session, now: dt.datetime, delivery: tuple[int, int], raw: bytes
    ) -> None:
        """Takes a bounce or a complaint about a delivery; anything else says nothing."""
        try:
            report = read_report(raw)
        except Exception:
            log.exception("unreadable report")
            return
        if report is None:
            return
        what, hard, words = report
        if what == "bounce":
            actions.bounce(db, now, *delivery, hard, words)
        else:
            actions.complain(db, now, *delivery)

    def _reply(
        self, db: orm.Session, now: dt.datetime, delivery: tuple[int, int], raw: bytes
    ) -> None:
        """Takes a reply, and passes it on. Raises GatewayUnavailable."""
        message = email.message_from_bytes(raw)
        if replies.goes_round(message):
            log.warning("a reply goes in a loop", delivery=delivery[0])
            return
        to = replies.take(db, now, *delivery, message)
        if to:
            smtp.pass_on(self.settings, to, raw)


def listener(database: Database, settings: Settings, fd: int | None = None) -> Controller:
    """The listener on the address the settings name, or on a socket that listens there already;
    call start() and stop()."""
    host, port = settings.inbound
    return HandedOn(Handler(database, settings), port, fd, host, data_size_limit=_MOST_BYTES)


def run(settings: Settings, fd: int | None = None) -> None:
    """Listens until told to stop."""
    configure(settings.log_level)
    database = Database(settings.database_url)
    controller = listener(database, settings, fd)
    host, port = settings.inbound
    try:
        controller.start()
    except OSError as problem:
        raise SystemExit(
            f"meadowrun: not started. It cannot listen at {host}:{port} ({problem}). "
            "MEADOWRUN_INBOUND says where it listens."
        ) from problem
    log.info("inbound listener started", host=host, port=port)
    stopped = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: stopped.set())
    with contextlib.suppress(KeyboardInterrupt):
        stopped.wait()
    controller.stop()
    database.close()
