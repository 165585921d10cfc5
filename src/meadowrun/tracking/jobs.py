"""Asks the addresses that somebody wished something for, and forgets what was not confirmed."""

import sqlalchemy as sa

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.gateways import smtp
from meadowrun.messages import mail_keys
from meadowrun.messages.senders import senders
from meadowrun.tracking import confirming


@jobs.task("tracking.ask", "upkeep", every="* * * * * */10")
def ask() -> None:
    """Sends confirming messages."""
    settings = context().settings
    with context().database.session() as session:
        if not session.execute(sa.text(_ANY)).scalar():
            return
        first = next(iter(senders(session)), None)
        sender = (
            (first.name, first.address)
            if first
            else (settings.organisation, f"meadowrun@{settings.mail_domain}")
        )
        gateway = smtp.gateway(settings, mail_keys.signer_of(session, settings))
        confirming.send_due(session, gateway, settings, sender, clock.now(session))


#: Whether any address waits to be asked.
_ANY = """
SELECT EXISTS (SELECT 1 FROM confirmations WHERE mailed_at IS NULL AND confirmed_at IS NULL)
"""


@jobs.task("tracking.expire", "upkeep", every="*/15 * * * * 20")
def expire() -> None:
    """Forgets what was not confirmed in time."""
    with context().database.session() as session:
        confirming.expire(session, clock.now(session))
