"""What happens to people's records by itself."""

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.people import keeping


@jobs.task("people.expire", "upkeep", every="* * * * * */60")
def expire() -> None:
    """Suppressions whose time is over end."""
    with context().database.session() as session:
        keeping.expire(session, clock.now(session))
