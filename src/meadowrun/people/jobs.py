"""What happens to people's records by itself."""

import datetime as dt

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.base.large import is_large
from meadowrun.people import duplicates, keeping, sampling, wishes


@jobs.task("people.expire", "upkeep", every="* * * * * */60")
def expire() -> None:
    """Suppressions and pauses whose time is over end."""
    with context().database.session() as session:
        keeping.expire(session, clock.now(session))
        wishes.end_pauses(session, clock.now(session))


#: The sample is filled again when it is older than this.
SAMPLE_AGAIN = dt.timedelta(hours=1)


@jobs.task("people.duplicates", "upkeep", every="*/15 * * * * 30")
def search_duplicates() -> None:
    """In a large world, has the likely duplicates ready."""
    with context().database.session() as session:
        if is_large(session):
            duplicates.candidates(session, clock.now(session), fresh=True)


@jobs.task("people.sample", "upkeep", every="* * * * * */30")
def sample() -> None:
    """In a large world, fills the sample that first figures are estimated from."""
    with context().database.session() as session:
        made = sampling.made(session)
        if is_large(session) and (made is None or made[0] < clock.machine_now() - SAMPLE_AGAIN):
            sampling.make(session, clock.machine_now())
