"""The way back for mail: an SMTP listener that reads bounces (RFC 3464) and complaints (RFC 5965).

The envelope's recipient says which delivery it is about: bounce+<token>@our domain, the return path
of every mail.
"""

import contextlib
import email
import email.message
import email.policy
import re
import signal
import threading

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

from meadowrun.base import clock, signing
from meadowrun.base.db import Database
from meadowrun.base.listening import HandedOn
from meadowrun.base.logs import configure, log
from meadowrun.base.settings import Settings
from meadowrun.core.guardrails.bounces import is_hard
from meadowrun.tracking import actions

#: Parts within parts of a report; real ones have one or two.
_MOST_PARTS = 20
_RECIPIENT = re.compile(r"bounce\+([A-Za-z0-9_-]{20,40})@", re.I)


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
        match = _RECIPIENT.match(address)
        if not match or signing.read(self.settings.secret, "bounce", match.group(1)) is None:
            return "550 5.1.1 no such mailbox here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        try:
            report = read_report(bytes(envelope.original_content or b""))
        except Exception:
            log.exception("unreadable report")
            return "250 taken, not understood"
        if report:
            what, hard, words = report
            with self.database.session() as db:
                now = clock.now(db)
                for address in envelope.rcpt_tos:
                    match = _RECIPIENT.match(address)
                    found = (
                        signing.read(self.settings.secret, "bounce", match.group(1))
                        if match
                        else None
                    )
                    if found and what == "bounce":
                        actions.bounce(db, now, *found, hard, words)
                    elif found:
                        actions.complain(db, now, *found)
        return "250 taken"


def listener(database: Database, settings: Settings, fd: int | None = None) -> Controller:
    """The listener on the address the settings name, or on a socket that listens there already;
    call start() and stop()."""
    host, port = settings.inbound
    return HandedOn(Handler(database, settings), port, fd, host, data_size_limit=500_000)


def run(settings: Settings, fd: int | None = None) -> None:
    """Listens until told to stop."""
    configure(settings.log_level)
    database = Database(settings.database_url)
    controller = listener(database, settings, fd)
    controller.start()
    log.info("inbound listener started", host=settings.inbound[0], port=settings.inbound[1])
    stopped = threading.Event()
    for sign in (signal.SIGTERM, signal.SIGINT):
        signal.signal(sign, lambda *_: stopped.set())
    with contextlib.suppress(KeyboardInterrupt):
        stopped.wait()
    controller.stop()
    database.close()
