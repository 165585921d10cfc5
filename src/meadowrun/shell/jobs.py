"""What the shell does by itself: telling colleagues what waits for them."""

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.gateways.smtp import gateway
from meadowrun.sends.troubles import MOST
from meadowrun.shell import telling


@jobs.task("shell.tell", "upkeep", every="* * * * * */20")
def tell() -> None:
    """Tells by email, whoever wishes it, what waits for them."""
    with context().database.session() as session:
        now = clock.now(session)
        telling.tell_of_sends(session, now, MOST)
        telling.send_due(session, gateway(context().settings), context().settings, now)
