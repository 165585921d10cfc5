"""Every night what is older than it is kept is deleted, a few thousand rows at a time."""

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.retention import rules


@jobs.task("retention.delete", "upkeep", every="10 3 * * * 0")
def delete_old() -> None:
    """Deletes every kind of data that is older than it is kept."""
    with context().database.session() as session:
        now, found = clock.now(session), rules.kept(session)
    for one in found:
        gone = 0
        while one.months:
            with context().database.session() as session:
                some = rules.delete_some(session, one, now)
            gone += some
            if not some or one.rule.kind == "people" and gone >= rules.PEOPLE_A_NIGHT:
                break
        if gone:
            with context().database.session() as session:
                rules.note(session, one, now, gone)
