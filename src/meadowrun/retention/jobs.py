"""Every night what is older than it is kept is deleted, a few thousand rows at a time."""

import zoneinfo

from meadowrun.base import clock, jobs
from meadowrun.base.jobs import context
from meadowrun.retention import rules


@jobs.task("retention.delete", "upkeep", every="*/2 * * * * 0")
def delete_old() -> None:
    """Deletes every kind of data that is older than it is kept, once a night has begun in which
    that was not done yet.

    It looks often: the night is the organisation's, and in a demo comes when somebody moves the
    clock.
    """
    with context().database.session() as session:
        now = clock.now(session)
        if not rules.is_due(session, now, zoneinfo.ZoneInfo(context().settings.timezone)):
            return
        found = rules.kept(session)
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
