"""What the shell does by itself: telling colleagues what waits for them."""

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.gateways.smtp import gateway
from meadowrun.shell import telling, unusual


@jobs.task("shell.tell", "upkeep", every="* * * * * */20")
def tell() -> None:
    """Sends by email what is to be told, whoever wrote it down, and what is unusual to
    administrators."""
    with context().database.session() as session:
        unusual.tell(session, clock.now(session))
        telling.send_due(
            session, gateway(context().settings), context().settings, clock.now(session)
        )
