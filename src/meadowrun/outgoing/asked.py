"""What every page asks of sending."""

from meadowrun.outgoing.models import SendingRules
from meadowrun.outgoing.rules import rules
from meadowrun.shell.request import db


def paused_since() -> SendingRules | None:
    """The rules while all marketing is paused; None while everything leaves."""
    found = rules(db())
    return found if found.paused_at is not None else None
